/** What is wrong with the plan: by severity and place, each with its reason, its remedy, and a way to leave it as it is. */
import { useMemo, useState, type FormEvent } from "react";

import type { PlanDocument } from "../../api/client";
import { sentence } from "../../kit/format";
import { Button, Skeleton } from "../../kit/parts";
import { useRoving } from "../../kit/roving";
import { adding, removing, useEdit, type Operation } from "../../plan/edit";
import { MEANS, objectOf, SEVERITIES, useFindings, useLossesProgress, type Finding, type Severity } from "../../plan/judging";
import { KINDS, type ObjectKind } from "../../plan/names";
import { usePlan } from "../../plan/queries";
import { formatSelection, type Selection } from "../../plan/selection";
import { Trouble } from "../../plan/trouble";
import { SeverityMark } from "../../plan/severity";
import { Link, useRoute } from "../../plan/route";


export function FindingsView() {
  const { params: { key }, search: { only } } = useRoute("/plans/:key/findings");
  const plan = usePlan(key);
  const asked = { key, revision: plan.data?.head.revision };
  const quick = useFindings(asked, false);
  const whole = useFindings(asked, true);
  const progress = useLossesProgress(asked, false, whole.isFetching);
  const review = whole.data ?? quick.data;
  const error = plan.error ?? quick.error;
  if (error) return <main id="main" className="flex-1 overflow-y-auto"><Trouble error={error} /></main>;
  if (!plan.data || !review) return <Skeleton className="flex-1 p-8" />;
  return (
    <Findings
      planKey={key}
      document={plan.data.document}
      findings={review.findings}
      only={only}
      runs={review.runs}
      waiting={whole.data ? undefined : (progress.data?.of ?? null) === null ? "What losses come to is still being computed." : `What losses come to is still being computed: ${progress.data?.done} of ${progress.data?.of}.`}
    />
  );
}

interface FindingsProps {
  planKey: string;
  document: PlanDocument;
  findings: Finding[];
  only: Severity | undefined;
  runs: boolean;
  waiting: string | undefined;
}

function Findings({ planKey, document, findings, only, runs, waiting }: FindingsProps) {
  const [filter, setFilter] = useState("");
  const roving = useRoving();
  const fitting = useMemo(() => findings.filter((one) => fits(one, filter)), [findings, filter]);
  const open = fitting.filter((one) => one.because === null);
  const left = fitting.filter((one) => one.because !== null);
  const shown = SEVERITIES.filter((one) => only === undefined || only === one);
  const nothing = open.length === 0 && filter === "";
  return (
    <main id="main" className="min-w-0 flex-1 overflow-y-auto px-4 pt-4 pb-24 sm:px-7" aria-label="Findings">
      <header className="mb-4 flex flex-wrap items-center gap-3">
        <h1 className="text-xl font-semibold">Findings</h1>
        <nav className="flex gap-1" aria-label="By severity">
          <Choice planKey={planKey} severity={undefined} chosen={only === undefined} count={open.length} />
          {SEVERITIES.map((one) => (
            <Choice key={one} planKey={planKey} severity={one} chosen={only === one} count={open.filter((other) => other.severity === one).length} />
          ))}
        </nav>
        <input aria-label="Filter" placeholder="Filter" className="min-h-6 w-52 rounded border border-line-strong bg-panel px-2" value={filter} onChange={(event) => setFilter(event.target.value)} />
        <p className="text-[12px] text-ink-soft" role="status">{runs ? waiting : "The plan cannot be run as it is: what needs its traffic is not looked at."}</p>
      </header>
      <div {...roving} className="max-w-5xl">
        {nothing && <p className="text-ink-soft">Nothing found{waiting && runs ? " yet" : ""}: nothing stands in the way of traffic, and no rule sees a risk.</p>}
        {shown.map((severity) => {
          const mine = open.filter((one) => one.severity === severity);
          if (mine.length === 0) return null;
          return (
            <section key={severity} className="mb-6" aria-label={severity}>
              <h2 className="mb-1 flex items-baseline gap-2 border-b border-line pb-1 font-semibold">
                {severity} <span className="text-[12px] font-normal text-ink-soft">{MEANS[severity]}</span>
              </h2>
              <ul>{mine.map((one) => <Row key={one.code + one.where + one.message} planKey={planKey} document={document} finding={one} />)}</ul>
            </section>
          );
        })}
        {left.length > 0 && only === undefined && (
          <section aria-label="Left as they are">
            <h2 className="mb-1 border-b border-line pb-1 font-semibold">Left as they are</h2>
            <ul>{left.map((one) => <Left key={one.code + one.where + one.message} planKey={planKey} document={document} finding={one} />)}</ul>
          </section>
        )}
      </div>
    </main>
  );
}

function fits(one: Finding, filter: string): boolean {
  const text = `${one.code} ${one.about} ${one.message} ${one.remedy} ${one.where}`.toLowerCase();
  return filter.toLowerCase().split(/\s+/).filter(Boolean).every((word) => text.includes(word));
}

function Choice({ planKey, severity, chosen, count }: { planKey: string; severity: Severity | undefined; chosen: boolean; count: number }) {
  return (
    <Link to="/plans/:key/findings" params={{ key: planKey }} search={{ only: severity }} aria-current={chosen ? "true" : undefined} className={`flex min-h-6 items-center gap-1.5 rounded border px-2 py-0.5 ${chosen ? "border-ink bg-panel font-semibold" : "border-line-strong hover:border-ink"}`}>
      {severity && <SeverityMark severity={severity} />} {severity ?? "all"} <span className="tabular-nums">{count}</span>
    </Link>
  );
}

function Row({ planKey, document, finding }: { planKey: string; document: PlanDocument; finding: Finding }) {
  const { edit } = useEdit(planKey);
  const [leaving, setLeaving] = useState(false);
  const patch = finding.patch as unknown as Operation[];
  return (
    <li className="grid grid-cols-[18px_minmax(0,1fr)] gap-x-2 border-b border-dotted border-line py-2" data-code={finding.code}>
      <span className="pt-1"><SeverityMark severity={finding.severity} /></span>
      <div>
        <p className="[overflow-wrap:anywhere]">{sentence(finding.message, finding.about)}</p>
        <p className="mt-1 flex flex-wrap items-center gap-x-2 gap-y-1">
          {patch.length > 0 ? (
            <Button disabled={edit.isPending} onClick={() => edit.mutate(patch)} data-roving>{sentence(finding.remedy, finding.about, false)}</Button>
          ) : (
            <span className="text-ink-soft">{sentence(finding.remedy, finding.about)}</span>
          )}
          <button type="button" className="min-h-6 text-[12px] text-ink-soft hover:text-ink hover:underline" aria-expanded={leaving} onClick={() => setLeaving(!leaving)} data-roving>
            Leave it, because …
          </button>
          <Place planKey={planKey} document={document} finding={finding} />
        </p>
        {edit.error && <p className="mt-1 text-vermilion-text" role="alert">{edit.error.message}</p>}
        {leaving && <Because planKey={planKey} finding={finding} onDone={() => setLeaving(false)} />}
      </div>
    </li>
  );
}

/** A reason is kept in the plan: whoever reviews it next reads it. */
function Because({ planKey, finding, onDone }: { planKey: string; finding: Finding; onDone: () => void }) {
  const { edit } = useEdit(planKey);
  const [because, setBecause] = useState("");
  const send = (event: FormEvent) => {
    event.preventDefault();
    if (because.trim()) edit.mutate([adding("/accepted/-", { code: finding.code, about: finding.about, because: because.trim() })], { onSuccess: onDone });
  };
  return (
    <form className="mt-1.5 flex flex-wrap items-center gap-2" onSubmit={send}>
      <input autoFocus aria-label={`Why ${finding.code} of ${finding.about} is left as it is`} className="min-h-6 w-80 max-w-full rounded border border-line-strong bg-panel px-2" placeholder="it is a trial until spring" value={because} onChange={(event) => setBecause(event.target.value)} onKeyDown={(event) => { if (event.key === "Escape") onDone(); }} />
      <Button type="submit" disabled={!because.trim() || edit.isPending}>Leave it</Button>
      {edit.error && <span className="text-vermilion-text" role="alert">{edit.error.message}</span>}
    </form>
  );
}

function Left({ planKey, document, finding }: { planKey: string; document: PlanDocument; finding: Finding }) {
  const { edit } = useEdit(planKey);
  const place = document.accepted.findIndex((one) => one.code === finding.code && one.about === finding.about);
  return (
    <li className="border-b border-dotted border-line py-2 text-ink-soft" data-code={finding.code}>
      <p className="[overflow-wrap:anywhere]">{sentence(finding.message, finding.about)}</p>
      <p className="mt-1 flex flex-wrap items-center gap-x-2 gap-y-1">
        <span className="text-ink">because {finding.because}</span>
        {place >= 0 && <Button disabled={edit.isPending} onClick={() => edit.mutate([removing(`/accepted/${place}`)])} data-roving>Take it up again</Button>}
        <Place planKey={planKey} document={document} finding={finding} />
      </p>
    </li>
  );
}

/** Where it is: the object on the board, and the place in the document. */
function Place({ planKey, document, finding }: { planKey: string; document: PlanDocument; finding: Finding }) {
  const object = objectOf(document, finding);
  return (
    <span className="ml-auto flex items-baseline gap-2 text-[12px] text-ink-soft">
      {object && <ToObject planKey={planKey} object={object} />}
      <code className="font-mono text-[11px]" title={finding.where}>{finding.code}</code>
    </span>
  );
}

function ToObject({ planKey, object }: { planKey: string; object: Selection }) {
  const words = object.kind === "zone" ? "zone" : KINDS[object.kind as ObjectKind].words;
  const called = `${words} ${object.name}`;
  const style = "text-north hover:underline";
  if (object.kind === ("drill" as Selection["kind"])) return <Link to="/plans/:key/drill" params={{ key: planKey }} search={{ drill: object.name }} className={style} data-roving>{called}</Link>;
  return <Link to="/plans/:key/board" params={{ key: planKey }} search={{ select: formatSelection(object) }} className={style} data-roving>{called}</Link>;
}
