import { Check, ChevronDown, ChevronRight, Map as MapIcon, Wrench, X } from "lucide-react";
import { useState } from "react";

import type { PlanDocument, Schemas } from "../../api/client";
import { percent, sentence } from "../../kit/format";
import { Copyable } from "../../kit/copyable";
import { Button, Skeleton } from "../../kit/parts";
import { useEdit, type Operation } from "../../plan/edit";
import { usePlan, useTrace } from "../../plan/queries";
import { Trouble } from "../../plan/trouble";
import { Beads } from "./beads";
import { candidateRows, failedBefore, isWrong, litParts, namesTogether, type CandidateRow } from "./candidates";
import { TraceForm } from "./form";
import { commandFor, filledIn, questionFor, VARY_WORDS } from "./question";
import type { TraceSearch } from "../../plan/searches";
import { Link, useRoute } from "../../plan/route";


/** One request hop by hop; and many in turn, as beads. */
export function TraceView() {
  const { params: { key }, search: given, say } = useRoute("/plans/:key/trace");
  const plan = usePlan(key);
  const document = plan.data?.document;
  const search = document ? filledIn(given, document) : given;
  const asked = { key, revision: plan.data?.head.revision };
  const trace = useTrace(asked, document ? questionFor(search) : undefined);
  const send = (changes: TraceSearch) => say({ ...search, ...changes });
  if (!document) return plan.error ? <Trouble error={plan.error} /> : <Skeleton className="flex-1 p-8" />;
  return (
    <div className="flex min-h-0 flex-1 max-md:block max-md:overflow-y-auto print:block">
      <TraceForm key={JSON.stringify(search)} document={document} search={search} onSend={send} />
      <main id="main" className="min-w-0 flex-1 overflow-y-auto px-7 pt-4 pb-10 max-md:overflow-visible max-md:px-3 print:overflow-visible" aria-label="Trace">
        {trace.error && <Trouble error={trace.error} document={document} />}
        {!trace.error && trace.data && <Traced planKey={key} document={document} search={search} trace={trace.data} onShow={(show) => send({ show })} />}
        {!trace.error && !trace.data && <p className="text-ink-soft">{search.url ? "On its way …" : "Give a URL, and send a request on its way."}</p>}
      </main>
    </div>
  );
}

interface TracedProps {
  planKey: string;
  document: PlanDocument;
  search: TraceSearch;
  trace: Schemas["TraceAnswer"];
  onShow: (number: number) => void;
}

const ERRORS: Record<string, string> = { timed_out: "time-out", no_such_name: "no such name", no_address: "no address" };

/** How a request ends, in few words: `504 after 3.04 s`. */
export function endWords({ status, error, latency_ms }: Schemas["Outcome"]): string {
  const took = latency_ms >= 1000 ? `${Number((latency_ms / 1000).toPrecision(3))} s` : `${Number(latency_ms.toPrecision(3))} ms`;
  const word = error ? (ERRORS[error] ?? error.replaceAll("_", " ")) : "answered";
  return `${status ?? word} after ${took}`;
}

function Traced({ planKey, document, search, trace, onShow }: TracedProps) {
  const { outcome } = trace;
  const failed = outcome.cause !== null || outcome.error !== null;
  const board: Record<string, string | number | undefined> = { lit: litParts(trace, search.client).join(","), drill: search.drill, at: search.at };
  return (
    <>
      <header className="mb-3 flex flex-wrap items-baseline gap-x-4">
        <h1 className={`shrink-0 text-xl font-semibold ${failed ? "text-vermilion-text" : "text-north"}`} data-testid="ending">
          {endWords(outcome)}
        </h1>
        <p className="min-w-0 flex-1 basis-64">{outcome.reason}</p>
        <Link to="/plans/:key/board" params={{ key: planKey }} search={board} className="inline-flex shrink-0 items-center gap-1.5 self-center rounded border border-line-strong bg-panel px-2 py-0.5 font-medium hover:border-ink">
          <MapIcon size={13} aria-hidden="true" /> Show on the board
        </Link>
      </header>
      <ol className="relative" data-testid="ladder">
        {trace.hops.map((hop, index) => (
          <HopCard key={`${index} ${hop.kind}`} planKey={planKey} hop={hop} last={index === trace.hops.length - 1} failedBefore={failedBefore(trace.hops, index)} search={search} />
        ))}
      </ol>
      {trace.sequence.length > 0 && <Beads trace={trace} zones={document.regions.flatMap((region) => region.zones)} words={VARY_WORDS[search.vary ?? "connection"]} shown={search.show ?? 1} onShow={onShow} areas={search.vary === "area" ? document.areas.map((one) => one.name) : undefined} />}
      <p className="mt-5 text-[12px] text-ink-soft">
        The same on the command line: <Copyable text={commandFor(search, planKey)} />
      </p>
      {trace.explained.length > 0 && (
        <section className="mt-6" aria-label="Questions">
          <h2 className="mb-2 border-b border-line pb-1 font-semibold">What people ask here</h2>
          <ul className="space-y-2">
            {trace.explained.map((one) => (
              <li key={one.puzzle + one.words} className="flex items-start justify-between gap-4">
                <p>
                  <b className="font-semibold">{one.puzzle}</b> <span className="text-ink-soft">{one.words}.</span>
                </p>
                {one.remedy && <RemedyButton planKey={planKey} remedy={one.remedy} />}
              </li>
            ))}
          </ul>
        </section>
      )}
    </>
  );
}

/** One edit that would help; undo takes it back. */
function RemedyButton({ planKey, remedy }: { planKey: string; remedy: Schemas["RemedyAnswer"] }) {
  const { edit } = useEdit(planKey);
  return (
    <Button className="shrink-0 text-[12px]" onClick={() => edit.mutate(remedy.patch as unknown as Operation[])}>
      <Wrench size={12} aria-hidden="true" /> {sentence(remedy.words, "", false)}
    </Button>
  );
}

interface HopProps {
  planKey: string;
  hop: Schemas["Hop"];
  last: boolean;
  failedBefore: boolean;
  search: TraceSearch;
}

function HopCard({ planKey, hop, last, failedBefore, search }: HopProps) {
  const [open, setOpen] = useState(hop.kind === "target" && (!hop.ok || hop.candidates.some(isWrong)));
  const many = hop.candidates.length > 1;
  const bad = !hop.ok;
  const rail = !last && <span className={`absolute top-6 bottom-[-14px] left-[8px] w-[3px] ${bad || failedBefore ? "bg-vermilion" : "bg-north"}`} aria-hidden="true" />;
  if (hop.kind === "route" && hop.ok) {
    return (
      <li className="relative pb-1.5 pl-[40px] text-[11px] text-ink-soft" data-hop={hop.kind} data-ok={hop.ok}>
        <span className={`absolute top-[-8px] bottom-[-14px] left-[8px] w-[3px] ${failedBefore ? "bg-vermilion" : "bg-north"}`} aria-hidden="true" />
        route {hop.about} · {hop.because}
      </li>
    );
  }
  return (
    <li className="relative pb-1.5 pl-[26px]" data-hop={hop.kind} data-ok={hop.ok}>
      {rail}
      <span className={`absolute top-2.5 left-0 grid size-[18px] place-items-center rounded-full border-2 bg-paper ${bad ? "border-vermilion text-vermilion-text" : "border-north text-north"}`}>
        {bad ? <X size={11} strokeWidth={3} aria-label="fails" /> : <Check size={11} strokeWidth={3} aria-label="passes" />}
      </span>
      <div className={`rounded border ${bad ? "border-vermilion bg-vermilion-fill/40" : "border-line bg-panel"}`}>
        <div className="grid grid-cols-[minmax(0,1.15fr)_minmax(0,0.8fr)_minmax(0,2fr)_56px_24px] items-end gap-x-4 px-3.5 max-md:grid-cols-[minmax(0,1fr)_56px_24px] max-md:[&>*:nth-child(2)]:order-4 max-md:[&>*:nth-child(2)]:col-span-3 max-md:[&>*:nth-child(3)]:order-5 max-md:[&>*:nth-child(3)]:col-span-3 pt-0.5 pb-1">
          <span className="min-w-0">
            <span className="block text-[11px] leading-tight text-ink-soft">{hop.kind}</span>
            <HopName planKey={planKey} hop={hop} search={search} />
          </span>
          <span className="min-w-0 text-[12px] [overflow-wrap:anywhere]">{hop.detail}</span>
          <span className={`min-w-0 text-[12px] ${bad ? "text-vermilion-text" : "text-ink-soft"}`}>{hop.because}</span>
          <span className="text-right font-mono text-[12px] whitespace-nowrap text-ink-soft">{hop.latency_ms > 0 ? milliseconds(hop.latency_ms) : ""}</span>
          {many ? (
            <button type="button" className="grid size-6 place-items-center rounded hover:bg-line/60" aria-expanded={open} aria-label={`${open ? "Fold" : "Unfold"} the candidates of ${hop.kind} ${hop.about}`} onClick={() => setOpen(!open)}>
              {open ? <ChevronDown size={14} /> : <ChevronRight size={14} />}
            </button>
          ) : (
            <span className="size-6" />
          )}
        </div>
        {hop.remedy && (
          <p className="px-3.5 pb-2">
            <RemedyButton planKey={planKey} remedy={hop.remedy} />
          </p>
        )}
        {many && open && <Candidates hop={hop} />}
      </div>
    </li>
  );
}

function milliseconds(value: number): string {
  return value >= 1000 ? `${Number((value / 1000).toPrecision(3))} s` : `${Number(value.toPrecision(3))} ms`;
}

/** What a hop is about, linked to its place on the board. */
function HopName({ planKey, hop, search }: { planKey: string; hop: Schemas["Hop"]; search: TraceSearch }) {
  const name = "block font-semibold [overflow-wrap:anywhere]";
  if (!hop.link) return <span className={name}>{hop.about}</span>;
  const board: Record<string, string | number | undefined> = { select: hop.link, drill: search.drill, at: search.at };
  return (
    <Link to="/plans/:key/board" params={{ key: planKey }} search={board} className={`${name} rounded hover:text-north hover:underline`} title={`Show ${hop.about} on the board`}>
      {hop.about}
    </Link>
  );
}

const MOST_ROWS = 40;

function Candidates({ hop }: { hop: Schemas["Hop"] }) {
  const rows = candidateRows(hop.candidates);
  const shown = rows.slice(0, MOST_ROWS);
  const states = hop.candidates.some((one) => one.truth !== null && one.truth !== undefined);
  return (
    <table className="mb-1.5 w-full table-fixed border-t border-line text-left text-[12px]">
      <thead className="text-[11px] text-ink-soft">
        <tr>
          <th scope="col" className="w-[26%] py-1 pl-3.5 font-normal">candidate</th>
          <th scope="col" className="w-[12%] font-normal">{states ? "zone" : ""}</th>
          <th scope="col" className="w-[13%] font-normal">share</th>
          <th scope="col" className="w-[9%] font-normal">{states ? "truth" : ""}</th>
          <th scope="col" className="w-[9%] font-normal">{states ? "belief" : ""}</th>
          <th scope="col" className="font-normal">why not</th>
        </tr>
      </thead>
      <tbody>
        {shown.map((row) => (
          <CandidateLine key={row.names[0]} row={row} />
        ))}
      </tbody>
      {rows.length > MOST_ROWS && (
        <tfoot>
          <tr>
            <td colSpan={6} className="pl-3.5 text-ink-soft">and {rows.length - MOST_ROWS} more rows</td>
          </tr>
        </tfoot>
      )}
    </table>
  );
}

function CandidateLine({ row }: { row: CandidateRow }) {
  const { first, names, wrong } = row;
  const count = names.length > 1 ? `${names.length} × ` : "";
  const tone = wrong ? "text-vermilion-text" : first.share > 0 ? "" : "text-ink-soft";
  return (
    <tr className={`border-t border-dotted border-line ${tone} ${first.chosen ? "font-semibold" : ""} ${wrong && first.chosen ? "hatched-soft" : ""}`} data-chosen={first.chosen}>
      <td className="truncate py-0.5 pl-3.5" title={names.join(", ")}>{first.chosen ? "→ " : ""}{namesTogether(names)}</td>
      <td className="truncate">{first.zone ?? ""}</td>
      <td className="tabular-nums">{first.share > 0 ? `${count}${percent(first.share)}` : "—"}</td>
      <td>{first.truth ?? ""}</td>
      <td>{first.belief ?? ""}</td>
      <td className="pr-2">{[first.excluded, first.note].filter(Boolean).join(" · ")}</td>
    </tr>
  );
}
