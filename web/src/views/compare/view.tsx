/** A plan beside an earlier revision or its variants, its settings swept, the change rehearsed, and its log. */

import type { PlanHead } from "../../api/client";
import { Skeleton } from "../../kit/parts";
import { useVariants, type Before } from "../../plan/deciding";
import type { CompareSearch, Way } from "../../plan/searches";
import { usePlan, type Asked } from "../../plan/queries";
import { Trouble } from "../../plan/trouble";
import { LogOfPlan } from "./log";
import { Rehearsal } from "./rehearsal";
import { SideBySide } from "./side-by-side";
import { Sweep } from "./sweep";
import { UsualChanges } from "./usual";
import { Variants } from "./variants";
import { Link, useRoute } from "../../plan/route";

const CALLED: [Way, string][] = [
  ["side", "side by side"],
  ["variants", "variants"],
  ["sweep", "sweep settings"],
  ["change", "rehearse the change"],
  ["usual", "usual changes"],
  ["log", "log"],
];

export function CompareView() {
  const { params: { key }, search } = useRoute("/plans/:key/compare");
  const plan = usePlan(key);
  if (plan.error) return <main id="main" className="flex-1 overflow-y-auto"><Trouble error={plan.error} /></main>;
  if (!plan.data) return <main id="main" className="flex-1 p-8" aria-label="Compare"><Skeleton className="h-40" /></main>;
  const { head } = plan.data;
  const asked: Asked = { key, revision: head.revision };
  const { way = "side" } = search;
  const before: Before = { since: search.since, beside: search.beside };
  return (
    <main id="main" className="min-h-0 flex-1 overflow-y-auto px-4 pt-4 pb-24 sm:px-7" aria-label="Compare">
      <header className="mb-4 flex flex-wrap items-center gap-3">
        <h1 className="text-xl font-semibold">Compare</h1>
        <nav className="flex flex-wrap gap-1" aria-label="Ways to compare">
          {CALLED.map(([one, called]) => <WayLink key={one} planKey={key} search={search} way={one} chosen={one === way}>{called}</WayLink>)}
        </nav>
        {(way === "side" || way === "change") && <Against head={head} before={before} />}
      </header>
      {way === "side" && <SideBySide asked={asked} head={head} before={before} />}
      {way === "change" && <Rehearsal asked={asked} before={{ ...before, order: search.order }} />}
      {way === "variants" && <Variants asked={asked} />}
      {way === "sweep" && <Sweep asked={asked} document={plan.data.document} search={search} />}
      {way === "usual" && <UsualChanges asked={asked} search={search} />}
      {way === "log" && <LogOfPlan asked={asked} />}
    </main>
  );
}

function WayLink({ planKey, search, way, chosen, children }: { planKey: string; search: CompareSearch; way: Way; chosen: boolean; children: string }) {
  return (
    <Link to="/plans/:key/compare" params={{ key: planKey }} search={{ ...search, at: undefined, way: way === "side" ? undefined : way }} aria-current={chosen ? "true" : undefined} className={`min-h-6 rounded border px-2 py-0.5 ${chosen ? "border-ink bg-panel font-semibold" : "border-line-strong hover:border-ink"}`}>
      {children}
    </Link>
  );
}

const BOX = "min-h-6 rounded border border-line-strong bg-paper px-1.5 text-ink";

/** What stands beside the current revision: an earlier one, or another plan of the family. */
function Against({ head, before }: { head: PlanHead; before: Before }) {
  const { say } = useRoute("/plans/:key/compare");
  const others = (useVariants(head.key).data ?? []).filter((one) => one.key !== head.key);
  const usual = head.agreed ?? 1;
  const since = before.since ?? usual;
  return (
    <span className="flex flex-wrap items-center gap-2 text-ink-soft">
      {`revision ${head.revision} against${others.length === 0 ? " revision" : ""}`}
      {others.length > 0 && (
        <select aria-label="What it is compared with" className={BOX} value={before.beside ?? ""} onChange={(event) => say((now) => ({ ...now, beside: event.target.value || undefined, order: undefined }), true)}>
          <option value="">its revision</option>
          {others.map((one) => <option key={one.key} value={one.key}>{one.variant ?? one.title}</option>)}
        </select>
      )}
      {!before.beside && (
        <>
          <input
            type="number"
            aria-label="The earlier revision"
            className={`${BOX} w-16 text-right tabular-nums`}
            min={1}
            max={head.revision}
            value={since}
            onChange={(event) => say((now) => ({ ...now, order: undefined, since: Math.min(Math.max(Number(event.target.value) || 1, 1), head.revision) }), true)}
          />
          {since === head.agreed ? "which is agreed" : since === 1 ? "as it was taken in" : ""}
        </>
      )}
    </span>
  );
}
