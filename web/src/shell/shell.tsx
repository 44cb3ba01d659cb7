import { Keyboard, Moon, Plus, Sun } from "lucide-react";
import { Fragment, useEffect, useState, type ComponentType, type ReactNode } from "react";
import type { ToasterProps } from "sonner";

import type { PlanHead } from "../api/client";
import { StandingPill, UndoRedo } from "./changes";
import { later, useQuiet } from "../kit/later";
import { Button } from "../kit/parts";
import { useKey } from "../kit/keys";
import { useTheme } from "../kit/theme";
import { SEVERITIES, useKnownFindings, type Severity } from "../plan/judging";
import { usePlan } from "../plan/queries";
import { titleOf } from "./titles";
import { Tour } from "../views/start/tour";
import { Link, searchNow, useKeyOfPlan, useNavigate, usePath } from "../plan/route";

// What is not there at the first sight is loaded after it.
const Toaster = later(async () => (await import("sonner")).Toaster as ComponentType<ToasterProps>);
const KeysDialog = later(async () => (await import("./keys-dialog")).KeysDialog);
const Palette = later(async () => (await import("./palette")).Palette);

/** The frame of every view: the bar on top, the view beneath. */
export function Shell({ children }: { children: ReactNode }) {
  const key = useKeyOfPlan();
  const { theme } = useTheme();
  const pathname = usePath();
  const plan = usePlan(key ?? "", key !== undefined);
  const quiet = useQuiet(key === undefined || plan.data !== undefined || plan.isError);
  useEffect(() => {
    if (quiet) for (const one of [Palette, KeysDialog]) void one.ahead();
  }, [quiet]);
  const title = titleOf(pathname, plan.data?.head.title);
  useEffect(() => {
    document.title = title;
  }, [title]);
  return (
    <div className="flex h-full flex-col print:block print:h-auto">
      <a href="#main" className="sr-only bg-panel text-ink focus:not-sr-only focus:absolute focus:top-1 focus:left-1 focus:z-50 focus:rounded focus:px-3 focus:py-1">
        Skip to the main part
      </a>
      <header className="flex min-h-11 shrink-0 flex-wrap items-center gap-x-2.5 bg-bar px-3 xl:flex-nowrap text-bar-ink max-md:px-2 print:hidden">
        <Link to="/plans" className="flex h-11 shrink-0 items-center gap-2.5 rounded text-[16px] font-semibold" aria-label="North Gate: all plans">
          <Mark /> <span className="max-md:hidden">North Gate</span>
        </Link>
        {key ? <PlanBar planKey={key} /> : <span className="ml-auto" />}
        <KeysHelp />
        <ThemeButton />
      </header>
      {children}
      {quiet && <Toaster theme={theme === "night" ? "dark" : "light"} position="bottom-left" offset={{ bottom: 10, left: 130 }} mobileOffset={{ bottom: 8, left: 8, right: 8 }} toastOptions={{ className: "!bg-panel !text-ink !border-line-strong !font-sans" }} />}
    </div>
  );
}

function PlanBar({ planKey }: { planKey: string }) {
  const plan = usePlan(planKey);
  const navigate = useNavigate();
  const pathname = usePath();
  const [inSheets, inSizing] = [pathname.includes("/sheets/"), pathname.endsWith("/sizing")];
  const add = (kind: string) => navigate({ to: "/plans/:key/board", params: { key: planKey }, search: { ...searchNow("/plans/:key/board"), add: kind, lost: undefined, at: undefined, moment: undefined } });
  useKey("add", () => add("group"));
  if (!plan.data) return <span className="ml-auto" />;
  const head: PlanHead = plan.data.head;
  return (
    <>
      <span className="h-5 w-px shrink-0 bg-bar-soft/40 max-md:hidden" />
      {!head.variant && <span className="min-w-8 truncate max-lg:max-w-40 max-md:hidden" title={head.title}>{head.title}</span>}
      {head.variant && <Link to="/plans/:key/compare" params={{ key: planKey }} search={{ way: "variants" }} className="min-w-12 truncate rounded border border-bar-soft/60 px-1.5 max-lg:max-w-40 hover:border-bar-ink" title={`${head.title}, a variant: ${head.variant}`} data-testid="variant">{head.variant}</Link>}
      <StandingPill head={head} />
      <UndoRedo head={head} />
      <nav className="flex h-11 overflow-x-auto xl:shrink-0 max-md:order-last max-md:w-full max-md:justify-center md:ml-1" aria-label="Views">
        <ViewLink to="/plans/:key/board" planKey={planKey}>Board</ViewLink>
        <Link to="/plans/:key/trace" params={{ key: planKey }} search={{}} className={TAB} tab>
          Trace
        </Link>
        <Link to="/plans/:key/drill" params={{ key: planKey }} search={{}} className={TAB} tab>
          Drill
        </Link>
        <Link to="/plans/:key/losses" params={{ key: planKey }} search={{}} className={`${TAB} ${inSizing ? "active" : ""}`} tab>
          Losses
        </Link>
        <FindingsLink planKey={planKey} revision={head.revision} />
        <Link to="/plans/:key/compare" params={{ key: planKey }} search={{}} className={TAB} tab>
          Compare
        </Link>
        <Link to="/plans/:key/sheets/:sheet" params={{ key: planKey, sheet: "machines" }} className={`${TAB} ${inSheets ? "active" : ""}`} aria-current={inSheets ? "page" : undefined}>
          Sheets
        </Link>
        <Link to="/plans/:key/index" params={{ key: planKey }} className={TAB} tab>
          Index
        </Link>
        <Link to="/plans/:key/handover" params={{ key: planKey }} className={TAB} tab>
          Hand over
        </Link>
      </nav>
      <span className="ml-auto flex items-center gap-2">
        <Button tone="bar" className="text-[12px]" title="Add to the plan (a)" onClick={() => add("group")}>
          <Plus size={13} aria-hidden="true" /> Add
        </Button>
        <Find planKey={planKey} onAdd={add} />
      </span>
      <Tour planKey={planKey} />
    </>
  );
}

/** The way to the findings, with how many stop traffic and how many are risks. */
function FindingsLink({ planKey, revision }: { planKey: string; revision: number }) {
  const known = useKnownFindings({ key: planKey, revision });
  const counts: Record<string, number> | undefined = known?.counts;
  const told = SEVERITIES.filter((one) => one !== "advice" && (counts?.[one] ?? 0) > 0);
  const words = told.map((one) => `${counts?.[one]} ${saying(one, counts?.[one])}`);
  return (
    <Link to="/plans/:key/findings" params={{ key: planKey }} search={{}} className={TAB} tab title={["Findings", ...words].join(", ")}>
      Findings
      {told.map((one) => (
        <Fragment key={one}>
          <span className="sr-only">, </span>
          <span className={`ml-1.5 rounded-sm px-1 text-[11px] leading-4 font-semibold text-bar tabular-nums ${one === "stops" ? "bg-[#f58067]" : "bg-[#e5b766]"}`} data-testid={`count-${one}`}>
            {counts?.[one]}
          </span>
          <span className="sr-only"> {saying(one, counts?.[one])}</span>
        </Fragment>
      ))}
    </Link>
  );
}

/** What so many findings do. */
function saying(severity: Severity, count = 0): string {
  if (severity === "stops") return count === 1 ? "stops traffic" : "stop traffic";
  return count === 1 ? "is a risk" : "are risks";
}

const TAB =
  "flex h-full shrink-0 items-center px-2.5 text-bar-soft hover:text-bar-ink [&.active]:font-semibold [&.active]:text-bar-ink [&.active]:shadow-[inset_0_-4px_0_var(--bar-ink)]";

function ViewLink({ to, planKey, children }: { to: "/plans/:key/board"; planKey: string; children: string }) {
  return (
    <Link to={to} params={{ key: planKey }} search={{}} className={TAB} tab>
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

/** The dialog is loaded with the first press. */
function KeysHelp() {
  const [open, setOpen] = useState<boolean>();
  useKey("help", () => setOpen((before) => !before));
  return (
    <>
      <Button tone="bar" className="px-1.5" aria-label="Keys (?)" title="Keys (?)" aria-haspopup="dialog" onClick={() => setOpen(true)}>
        <Keyboard size={14} />
      </Button>
      {open !== undefined && <KeysDialog open={open} onOpenChange={setOpen} />}
    </>
  );
}

/** What finds anything is loaded with the first press. */
function Find({ planKey, onAdd }: { planKey: string; onAdd: (kind: string) => void }) {
  const [open, setOpen] = useState<boolean>();
  useKey("find", () => setOpen(true));
  return (
    <>
      <button type="button" className="flex min-h-6 w-24 min-w-9 shrink items-center justify-between rounded border border-bar-soft/40 px-2.5 py-0.5 text-[12px] text-bar-soft hover:border-bar-ink max-xl:w-auto" aria-label="Find or do (/)" onClick={() => setOpen(true)}>
        <span className="truncate max-xl:hidden">Find…</span> <kbd className="font-mono">/</kbd>
      </button>
      {open !== undefined && <Palette planKey={planKey} open={open} onOpenChange={setOpen} onAdd={onAdd} />}
    </>
  );
}
