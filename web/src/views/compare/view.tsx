/** Two revisions held side by side, and the way from one to the other rehearsed. */
import { getRouteApi, Link } from "@tanstack/react-router";
import type { ReactNode } from "react";

import type { PlanHead } from "../../api/client";
import { Skeleton } from "../../kit/parts";
import { usePlan, type Asked } from "../../plan/queries";
import { Trouble } from "../../plan/trouble";
import { Rehearsal } from "./rehearsal";
import { SideBySide } from "./side-by-side";

const route = getRouteApi("/plans/$key/compare");

export function CompareView() {
  const { key } = route.useParams();
  const { since, change = false } = route.useSearch();
  const plan = usePlan(key);
  if (plan.error) return <main id="main" className="flex-1 overflow-y-auto"><Trouble error={plan.error} /></main>;
  if (!plan.data) return <main id="main" className="flex-1 p-8" aria-label="Compare"><Skeleton className="h-40" /></main>;
  const { head } = plan.data;
  const asked: Asked = { key, revision: head.revision };
  return (
    <main id="main" className="min-h-0 flex-1 overflow-y-auto px-4 pt-4 pb-24 sm:px-7" aria-label="Compare">
      <header className="mb-4 flex flex-wrap items-center gap-3">
        <h1 className="text-xl font-semibold">Compare</h1>
        <nav className="flex flex-wrap gap-1" aria-label="Ways to compare">
          <Way planKey={key} since={since} change={false} chosen={!change}>side by side</Way>
          <Way planKey={key} since={since} change chosen={change}>rehearse the change</Way>
        </nav>
        <Since head={head} since={since} />
      </header>
      {change ? <Rehearsal asked={asked} since={since} /> : <SideBySide asked={asked} since={since} />}
    </main>
  );
}

function Way({ planKey, since, change, chosen, children }: { planKey: string; since: number | undefined; change: boolean; chosen: boolean; children: ReactNode }) {
  return (
    <Link to="/plans/$key/compare" params={{ key: planKey }} search={change ? { since, change: true } : { since }} aria-current={chosen ? "true" : undefined} activeOptions={{ exact: true }} className={`min-h-6 rounded border px-2 py-0.5 ${chosen ? "border-ink bg-panel font-semibold" : "border-line-strong hover:border-ink"}`}>
      {children}
    </Link>
  );
}

/** Which earlier revision stands beside the current one. */
function Since({ head, since }: { head: PlanHead; since: number | undefined }) {
  const navigate = route.useNavigate();
  const usual = head.agreed ?? 1;
  return (
    <label className="flex items-center gap-2 text-ink-soft">
      revision {head.revision} against
      <input
        type="number"
        aria-label="The earlier revision"
        className="min-h-6 w-16 rounded border border-line-strong bg-paper px-1.5 text-right text-ink tabular-nums"
        min={1}
        max={head.revision}
        value={since ?? usual}
        onChange={(event) => void navigate({ search: (before) => ({ ...before, since: Math.min(Math.max(Number(event.target.value) || 1, 1), head.revision) }), replace: true })}
      />
      {(since ?? usual) === head.agreed ? "which is agreed" : (since ?? usual) === 1 ? "as it was taken in" : ""}
    </label>
  );
}
