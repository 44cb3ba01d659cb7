import { Command } from "cmdk";
import { useMemo, useState } from "react";

import type { PlanHead } from "../api/client";
import { useTheme } from "../kit/theme";
import { useDeciding } from "../plan/deciding";
import { useCopyPlan, useEdit } from "../plan/edit";
import { usePlan } from "../plan/queries";
import { formatSelection, type Selection } from "../plan/selection";
import { ADDABLE } from "../plan/kinds";
import { SHEET_TITLES } from "../plan/sheet-names";
import { tourTo } from "../views/start/tour-steps";
import { best, findable, type Findable } from "./findable";
import { searchNow, useNavigate } from "../plan/route";

interface Action {
  title: string;
  words: string;
  key?: string;
  act: () => void;
}

const MOST_SHOWN = 40;

/** `/` finds any object, view or action. */
export function Palette({ planKey, open, onOpenChange, onAdd }: { planKey: string; open: boolean; onOpenChange: (open: boolean) => void; onAdd: (kind: string) => void }) {
  return (
    <Command.Dialog open={open} onOpenChange={onOpenChange} shouldFilter={false} label="Find or do" overlayClassName="fixed inset-0 z-30 bg-bar/40" contentClassName="fixed top-16 left-1/2 z-40 w-[min(520px,calc(100vw-16px))] -translate-x-1/2 rounded border border-line-strong bg-panel p-2 shadow-xl">
      <Found planKey={planKey} onAdd={onAdd} onDone={() => onOpenChange(false)} />
    </Command.Dialog>
  );
}

/** What fits what is typed: actions and views, and everything of the plan. */
function Found({ planKey, onAdd, onDone }: { planKey: string; onAdd: (kind: string) => void; onDone: () => void }) {
  const [typed, setTyped] = useState("");
  const plan = usePlan(planKey);
  const navigate = useNavigate();
  const actions = useActions(planKey, plan.data?.head, onAdd);
  const objects = useMemo(() => (plan.data ? findable(plan.data.document) : []), [plan.data]);
  const open = ({ to }: Findable) => {
    if ("drill" in to) navigate({ to: "/plans/:key/drill", params: { key: planKey }, search: { drill: to.drill } });
    else navigate({ to: "/plans/:key/board", params: { key: planKey }, search: { ...searchNow("/plans/:key/board"), add: undefined, select: formatSelection(to.select) } });
  };
  const found = best<Action | Findable>([...actions, ...objects], typed, MOST_SHOWN);
  return (
    <>
      <Command.Input autoFocus value={typed} onValueChange={setTyped} placeholder="An object, a view, an action" className="w-full border-b border-line bg-transparent px-2.5 py-2 text-[15px] outline-none" />
      <Command.List className="max-h-80 overflow-y-auto pt-1.5">
        {found.length === 0 && <p className="px-2.5 py-2 text-ink-soft">Nothing of that name.</p>}
        {found.map((one) => (
          <Command.Item
            key={`${one.title} ${one.words}`}
            value={`${one.title} ${one.words}`}
            className="flex cursor-pointer items-baseline justify-between gap-3 rounded px-2.5 py-1.5 data-[selected=true]:bg-north-fill"
            onSelect={() => {
              onDone();
              if ("act" in one) one.act();
              else open(one);
            }}
          >
            <span className={`truncate ${"act" in one ? "" : "font-medium"}`}>{one.title}</span>
            <span className="shrink-0 text-[12px] text-ink-soft">{"act" in one ? <kbd className="font-mono">{one.key}</kbd> : one.words}</span>
          </Command.Item>
        ))}
      </Command.List>
    </>
  );
}

/** Every action and every view. */
function useActions(planKey: string, head: PlanHead | undefined, onAdd: (kind: string) => void): Action[] {
  const navigate = useNavigate();
  const { toggle } = useTheme();
  const { move } = useEdit(planKey);
  const { stand } = useDeciding(planKey);
  const copy = useCopyPlan();
  const params = { key: planKey };
  const action = (title: string, act: () => void, key?: string): Action => ({ title, words: "", act, ...(key ? { key } : {}) });
  const select = (selection: Selection | undefined) => () => navigate({ to: "/plans/:key/board", params, search: { ...searchNow("/plans/:key/board"), add: undefined, select: selection && formatSelection(selection) } });
  return [
    action("Add to the plan", () => onAdd("group"), "a"),
    action("Go to the board", () => navigate({ to: "/plans/:key/board", params, search: {} })),
    action("Trace a request", () => navigate({ to: "/plans/:key/trace", params, search: {} })),
    action("Go to the drill", () => navigate({ to: "/plans/:key/drill", params, search: {} })),
    action("Losses: what each would cost", () => navigate({ to: "/plans/:key/losses", params, search: {} })),
    action("Sizing: how much is enough", () => navigate({ to: "/plans/:key/sizing", params, search: {} })),
    action("Compare with what is agreed", () => navigate({ to: "/plans/:key/compare", params, search: {} })),
    action("Variants", () => navigate({ to: "/plans/:key/compare", params, search: { way: "variants" } })),
    action("Sweep settings", () => navigate({ to: "/plans/:key/compare", params, search: { way: "sweep" } })),
    action("Log of the plan", () => navigate({ to: "/plans/:key/compare", params, search: { way: "log" } })),
    action("Rehearse the change", () => navigate({ to: "/plans/:key/compare", params, search: { way: "change" } })),
    action("Usual changes: a share, a port, a zone emptied", () => navigate({ to: "/plans/:key/compare", params, search: { way: "usual" } })),
    action("Hand over: the sheet and its parts", () => navigate({ to: "/plans/:key/handover", params })),
    action("Findings: what is wrong with the plan", () => navigate({ to: "/plans/:key/findings", params, search: {} })),
    action("Index of the plan", () => navigate({ to: "/plans/:key/index", params })),
    ...(head?.can_undo ? [action("Undo", () => move.mutate("undo"), "Ctrl Z")] : []),
    ...(head?.can_redo ? [action("Redo", () => move.mutate("redo"), "Ctrl Shift Z")] : []),
    ...(head && head.agreed !== head.revision ? [action(`Agree on revision ${head.revision}`, () => stand.mutate({ agreed: true, who: "", why: "" }))] : []),
    action("Settings of the plan", select(undefined)),
    action("Copy this plan", () => copy.mutate(planKey, { onSuccess: (made) => navigate({ to: "/plans/:key/board", params: { key: made.key }, search: {} }) })),
    action("Download the plan file", () => window.location.assign(`/api/plans/${planKey}/file`)),
    ...ADDABLE.map(([kind, words]) => action(`Add: ${words}`, () => onAdd(kind))),
    ...Object.entries(SHEET_TITLES).map(([sheet, title]) => action(`Sheet: ${title}`, () => navigate({ to: "/plans/:key/sheets/:sheet", params: { key: planKey, sheet } }))),
    action("All plans", () => navigate({ to: "/plans" })),
    action("Start a plan", () => navigate({ to: "/start" })),
    action("Day or night survey", toggle),
    action("Take the tour", () => tourTo(0)),
  ];
}
