import { useNavigate } from "@tanstack/react-router";
import { Command } from "cmdk";
import { useState } from "react";

import type { PlanDocument } from "../api/client";
import { useKey } from "../kit/keys";
import { useTheme } from "../kit/theme";
import { usePlan } from "../plan/queries";
import type { Selection } from "../plan/selection";
import { SHEETS } from "../views/sheets/columns";
import { tourTo } from "../views/start/tour-steps";
import { KINDS, OBJECT_KINDS, objectsOf } from "../plan/names";

/** Everything of a plan that can be found by its name. */
function findable(document: PlanDocument): (Selection & { words: string })[] {
  const objects = OBJECT_KINDS.flatMap((kind) => objectsOf(document, kind).map((one) => ({ kind, name: one.name, words: KINDS[kind].words })));
  const zones = document.regions.flatMap((region) => region.zones.map((name) => ({ kind: "zone" as const, name, words: "zone" })));
  const listeners = document.balancers.flatMap((balancer) =>
    balancer.listeners.map((one) => ({ kind: "listener" as const, name: `${balancer.name}/${one.name}`, words: "listener" })),
  );
  return [...zones, ...objects, ...listeners];
}

/** `/` finds any object or action. */
export function Palette({ planKey, onAdd }: { planKey: string; onAdd: () => void }) {
  const [open, setOpen] = useState(false);
  const plan = usePlan(planKey);
  const navigate = useNavigate();
  const { toggle } = useTheme();
  useKey("find", () => setOpen(true));
  const run = (action: () => void) => () => {
    setOpen(false);
    action();
  };
  const item = "flex cursor-pointer items-baseline justify-between gap-3 rounded px-2.5 py-1.5 data-[selected=true]:bg-north-fill";
  return (
    <>
      <button type="button" className="flex min-h-6 w-44 items-center justify-between rounded border border-bar-soft/40 px-2.5 py-0.5 text-[12px] text-bar-soft hover:border-bar-ink" onClick={() => setOpen(true)}>
        Find or do… <kbd className="font-mono">/</kbd>
      </button>
      <Command.Dialog open={open} onOpenChange={setOpen} label="Find or do" overlayClassName="fixed inset-0 z-30 bg-bar/40" contentClassName="fixed top-16 left-1/2 z-40 w-[520px] -translate-x-1/2 rounded border border-line-strong bg-panel p-2 shadow-xl">
        <Command.Input autoFocus placeholder="An object, a view, an action" className="w-full border-b border-line bg-transparent px-2.5 py-2 text-[15px] outline-none" />
        <Command.List className="max-h-80 overflow-y-auto pt-1.5">
          <Command.Empty className="px-2.5 py-2 text-ink-soft">Nothing of that name.</Command.Empty>
          <Command.Item className={item} onSelect={run(onAdd)}>
            Add to the plan <kbd className="font-mono text-[11px] text-ink-soft">a</kbd>
          </Command.Item>
          <Command.Item className={item} onSelect={run(() => void navigate({ to: "/plans/$key/board", params: { key: planKey }, search: {} }))}>
            Go to the board
          </Command.Item>
          {Object.entries(SHEETS).map(([name, sheet]) => (
            <Command.Item key={name} className={item} onSelect={run(() => void navigate({ to: "/plans/$key/sheets/$sheet", params: { key: planKey, sheet: name } }))}>
              Sheet: {sheet.title}
            </Command.Item>
          ))}
          <Command.Item className={item} onSelect={run(() => void navigate({ to: "/plans" }))}>All plans</Command.Item>
          <Command.Item className={item} onSelect={run(toggle)}>Day or night survey</Command.Item>
          <Command.Item className={item} onSelect={run(() => tourTo(0))}>Take the tour</Command.Item>
          {plan.data &&
            findable(plan.data.document).map((one) => (
              <Command.Item
                key={`${one.kind}:${one.name}`}
                value={`${one.name} ${one.words}`}
                className={item}
                onSelect={run(() => void navigate({ to: "/plans/$key/board", params: { key: planKey }, search: (before) => ({ ...before, select: `${one.kind}:${one.name}` }) }))}
              >
                <span className="truncate font-medium">{one.name}</span>
                <span className="shrink-0 text-[12px] text-ink-soft">{one.words}</span>
              </Command.Item>
            ))}
        </Command.List>
      </Command.Dialog>
    </>
  );
}
