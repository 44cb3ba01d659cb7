import { Link, Outlet, useLocation, useNavigate, useParams } from "@tanstack/react-router";
import { Keyboard, Moon, Plus, Sun, X } from "lucide-react";
import { Dialog } from "radix-ui";
import { useState } from "react";
import { Toaster } from "sonner";

import type { PlanHead } from "../api/client";
import { StandingPill, UndoRedo } from "./changes";
import { Palette } from "./palette";
import { Button, IconButton } from "../kit/parts";
import { HELP, useKey } from "../kit/keys";
import { useTheme } from "../kit/theme";
import { usePlan } from "../plan/queries";
import type { ViewSearch } from "../plan/view";
import { Tour } from "../views/start/tour";

/** The frame of every view: the bar on top, the view beneath. */
export function Shell() {
  const { key } = useParams({ strict: false });
  const { theme } = useTheme();
  return (
    <div className="flex h-full flex-col">
      <header className="flex h-11 shrink-0 items-center gap-3 bg-bar px-4 text-bar-ink">
        <Link to="/plans" className="flex shrink-0 items-center gap-2.5 rounded text-[16px] font-semibold">
          <Mark /> North Gate
        </Link>
        {key ? <PlanBar planKey={key} /> : <span className="ml-auto" />}
        <KeysHelp />
        <ThemeButton />
      </header>
      <Outlet />
      <Toaster theme={theme === "night" ? "dark" : "light"} position="bottom-left" offset={{ bottom: 192, left: 130 }} toastOptions={{ className: "!bg-panel !text-ink !border-line-strong !font-sans" }} />
    </div>
  );
}

function PlanBar({ planKey }: { planKey: string }) {
  const plan = usePlan(planKey);
  const navigate = useNavigate();
  const inSheets = useLocation().pathname.includes("/sheets/");
  const add = (kind: string) => void navigate({ to: "/plans/$key/board", params: { key: planKey }, search: (before: ViewSearch) => ({ ...before, add: kind, lost: undefined, at: undefined, moment: undefined }) });
  useKey("add", () => add("group"));
  if (!plan.data) return <span className="ml-auto" />;
  const head: PlanHead = plan.data.head;
  return (
    <>
      <span className="h-5 w-px shrink-0 bg-bar-soft/40" />
      <span className="truncate">{head.title}</span>
      <StandingPill head={head} />
      <UndoRedo head={head} />
      <nav className="ml-3 flex h-full" aria-label="Views">
        <ViewLink to="/plans/$key/board" planKey={planKey}>Board</ViewLink>
        <Link to="/plans/$key/trace" params={{ key: planKey }} search={{}} className={TAB} activeOptions={{ includeSearch: false }}>
          Trace
        </Link>
        <Link to="/plans/$key/drill" params={{ key: planKey }} search={{}} className={TAB} activeOptions={{ includeSearch: false }}>
          Drill
        </Link>
        <Link to="/plans/$key/sheets/$sheet" params={{ key: planKey, sheet: "machines" }} className={`${TAB} ${inSheets ? "active" : ""}`} aria-current={inSheets ? "page" : undefined}>
          Sheets
        </Link>
        <Link to="/plans/$key/index" params={{ key: planKey }} className={TAB}>
          Index
        </Link>
      </nav>
      <span className="ml-auto flex items-center gap-2">
        <Button tone="bar" className="text-[12px]" title="Add to the plan (a)" onClick={() => add("group")}>
          <Plus size={13} aria-hidden="true" /> Add
        </Button>
        <Palette planKey={planKey} onAdd={add} />
      </span>
      <Tour planKey={planKey} />
    </>
  );
}

const TAB =
  "flex h-full items-center px-3 text-bar-soft hover:text-bar-ink [&.active]:font-semibold [&.active]:text-bar-ink [&.active]:shadow-[inset_0_-4px_0_var(--bar-ink)]";

function ViewLink({ to, planKey, children }: { to: "/plans/$key/board"; planKey: string; children: string }) {
  return (
    <Link to={to} params={{ key: planKey }} search={{}} className={TAB} activeOptions={{ includeSearch: false }}>
      {children}
    </Link>
  );
}

function Mark() {
  return (
    <svg width="20" height="24" viewBox="0 0 20 24" fill="none" stroke="currentColor" strokeWidth="2.2" aria-hidden="true">
      <path d="M2 23V10a8 8 0 0 1 16 0v13" />
      <path d="M10 22V10M6 14l4-4 4 4" />
    </svg>
  );
}

function ThemeButton() {
  const { theme, toggle } = useTheme();
  const next = theme === "day" ? "Night survey" : "Day survey";
  return (
    <Button tone="bar" className="px-1.5" aria-label={next} title={next} onClick={toggle}>
      {theme === "day" ? <Moon size={14} /> : <Sun size={14} />}
    </Button>
  );
}

function KeysHelp() {
  const [open, setOpen] = useState(false);
  useKey("help", () => setOpen((before) => !before));
  return (
    <Dialog.Root open={open} onOpenChange={setOpen}>
      <Dialog.Trigger asChild>
        <Button tone="bar" className="px-1.5" aria-label="Keys (?)" title="Keys (?)">
          <Keyboard size={14} />
        </Button>
      </Dialog.Trigger>
      <Dialog.Portal>
        <Dialog.Overlay className="fixed inset-0 z-30 bg-bar/40" />
        <Dialog.Content className="fixed top-1/2 left-1/2 z-40 w-96 -translate-x-1/2 -translate-y-1/2 rounded border border-line-strong bg-panel p-5 shadow-xl" aria-describedby={undefined}>
          <Dialog.Title className="mb-3 text-lg font-semibold">Keys</Dialog.Title>
          <dl className="grid grid-cols-[auto_1fr] gap-x-4 gap-y-1.5">
            {HELP.map(([key, what]) => (
              <div key={key} className="contents">
                <dt>
                  <kbd className="rounded border border-line-strong bg-paper px-1.5 font-mono text-[12px]">{key}</kbd>
                </dt>
                <dd>{what}</dd>
              </div>
            ))}
          </dl>
          <Dialog.Close asChild>
            <IconButton label="Close" className="absolute top-3 right-3">
              <X size={14} />
            </IconButton>
          </Dialog.Close>
        </Dialog.Content>
      </Dialog.Portal>
    </Dialog.Root>
  );
}
