import { lazy, Suspense, useCallback, useEffect, useMemo, useState } from "react";

import { ProblemError, type BoardState, type DrillAnswer, type PlanDocument } from "../../api/client";
import { onButton, useKey } from "../../kit/keys";
import { expandedGroup, isSmall, useBreaking, useShown, type Looking, type Shown } from "../../plan/moment";
import { addressMap, NO_ADDRESSES } from "../../plan/addresses";
import { useKnownFindings, worstByObject, type Finding, type Severity } from "../../plan/judging";
import { useConsequences, useIndex, useSchema, useStrips, useZoneLosses } from "../../plan/queries";
import { formatSelection, halves, parseSelection, partOf, type Fault, type Selection } from "../../plan/selection";
import { useView } from "../../plan/view";
import { nextEvent } from "../../timeline/moving";
import { Banner, loadWhatIf, type Away } from "./banner";
import { useNarrow } from "../../kit/use-narrow";
import { Board } from "../../board/board";
import type { Folding } from "../../board/geometry";
import type { Pictured } from "./adding/adding";
import { isAddKind, type AddKind } from "./adding/kinds";
import type { InspectorProps } from "./inspector/shared";
import { NextSteps } from "./next-steps";
import { Reading } from "./reading";
import { Button, Skeleton } from "../../kit/parts";
import { objectAt, Trouble } from "../../plan/trouble";
import { useNavigate } from "../../plan/route";

// The board itself is seen first; what stands beside it comes a moment later.
const Inspector = lazy(async () => ({ default: (await import("./inspector/inspector")).Inspector }));
const Adding = lazy(async () => ({ default: (await import("./adding/adding")).Adding }));
const Timeline = lazy(async () => ({ default: (await import("../../timeline/timeline")).Timeline }));

const NO_FINDINGS: Finding[] = [];
const NOTHING_LOST = new Map<string, number>();
const NO_CONSEQUENCES: InspectorProps["consequences"] = [];
const NO_LOSSES: InspectorProps["losses"] = [];

/** The main view: board, inspector, and the time line at the foot. */
export function BoardView() {
  const { key, search, selection, lost, change, select } = useView();
  const shown = useShown();
  const { breaks: toggleLost, about: aboutToBreak } = useBreaking(shown);
  const { asked, drawn, fresh, error } = shown;
  const good = useLastGood(key, shown);
  const { state, drill, looking } = good;
  const document = shown.document;
  const schema = useSchema(fresh || search.add !== undefined);
  const consequences = useConsequences(asked, drawn);
  const [lossesWanted, setLossesWanted] = useState(false);
  const wantLosses = useCallback(() => setLossesWanted(true), []);
  const small = document !== undefined && isSmall(document);
  const losses = useZoneLosses(asked, fresh && (small || lossesWanted) && (selection?.kind === "group" || selection?.kind === "zone"));
  const [playing, setPlaying] = useState(false);
  const narrow = useNarrow();
  const [folded, setAway] = useState<Away>();
  // In a narrow window the board has it to itself until something is picked or asked for.
  const away = folded ?? { inspector: narrow && selection === undefined && search.add === undefined, foot: narrow };
  const [group, target] = stripFor(selection, drill);
  const strips = useStrips(asked, drill?.name, group, fresh);
  const strip = strips.data?.find((one) => one.target === target) ?? strips.data?.[0];
  const goTo = useCallback((second: number) => change({ at: second, lost: undefined, as: undefined, moment: undefined }), [change]);
  const asIfAdded = useCallback((one: Selection) => change({ lost: formatSelection(one), as: "added", moment: "at_once", at: undefined }, false), [change]);
  const toDrill = useCallback((name: string) => change({ drill: name, at: undefined }, false), [change]);
  const backToNow = useCallback(() => {
    setPlaying(false);
    change({ at: undefined, lost: undefined, as: undefined, moment: undefined, lit: undefined, add: undefined }, false);
  }, [change]);
  const navigate = useNavigate();
  const traceHere = useCallback(
    (part: Selection) => {
      const moment = search.at === undefined ? {} : { drill: drill?.name, at: search.at };
      const asked = part.kind === "client" ? { client: part.name } : { probe: part.name };
      navigate({ to: "/plans/:key/trace", params: { key }, search: { ...asked, ...moment } });
    },
    [navigate, key, search.at, drill?.name],
  );
  useKeys({ drill, regions: document?.regions, at: search.at, selection, goTo, backToNow, toggleLost, traceHere, play: () => setPlaying((on) => !on) });
  useRepaintMark("what-if-asked", "what-if-repaint", looking.mode === "what-if" ? looking.answer : undefined);
  useRepaintMark("edit-sent", "edit-repaint", state);
  const folding = useFolding(search.open, search.only, expandedGroup(selection), state);
  const open = folding.open;
  const lit = useMemo(() => search.lit?.split(",").filter(Boolean) ?? [], [search.lit]);
  const onFold = useCallback(
    (region: string) => change({ open: (open.includes(region) ? open.filter((one) => one !== region) : [...open, region]).join(",") || undefined }),
    [change, open],
  );
  useEffect(() => void (fresh && loadWhatIf()), [fresh]);
  const index = useIndex(asked, fresh);
  const known = useKnownFindings(asked);
  const findings = known?.findings ?? NO_FINDINGS;
  const marks = useMemo(() => (document ? worstByObject(document, findings) : new Map<string, Severity>()), [document, findings]);
  const addresses = useMemo(() => (index.data && document ? addressMap(index.data.entries, document) : NO_ADDRESSES), [index.data, document]);
  const lostSince = useMemo(() => zonesLostSince(document, drill, looking), [document, drill, looking]);
  if (error && !document) return <Trouble error={error} />;
  if (!document || (!state && !error)) return <Reading called="Reading the plan" />;
  const selectedIsLost = selection !== undefined && lost.some((one) => formatSelection(one) === formatSelection(selection));
  const onAdd = (kind: AddKind | undefined) => {
    setAway(undefined);
    change({ add: kind }, false);
  };
  const inspector: InspectorProps = {
    planKey: key, asked, losses: losses.data ?? (losses.isError ? NO_LOSSES : undefined), onLosses: small || lossesWanted ? undefined : wantLosses,
    document, state: state ?? EMPTY_STATE, looking, selection, lost: selectedIsLost, consequences: consequences.data ?? NO_CONSEQUENCES, findings,
    onBreak: toggleLost, onAbout: aboutToBreak, broken: lost, onSelect: select, addresses, onFold: narrow ? () => setAway({ ...away, inspector: true }) : undefined,
    onAsIfAdded: asIfAdded,
  };
  const picture = ({ side, ...other }: Pictured) => (
    <div className="flex min-h-0 flex-1 print:block">
      <div className="flex min-w-0 flex-1 flex-col print:block">
        {state && (
          <Banner
            looking={other.looking ?? looking}
            clients={state.clients.map((one) => one.name)}
            only={search.only}
            onOnly={(only) => change({ only })}
            onMoment={(moment) => change({ moment })}
            onNow={backToNow}
            away={away}
            onAway={setAway}
            problems={state.remarks.length}
            onProblems={() => {
              setAway({ ...away, inspector: false });
              change({ select: undefined, add: undefined }, false);
            }}
          />
        )}
        {error && state && <StandsInTheWay error={error} document={document} onSelect={select} />}
        {looking.mode === "now" && <NextSteps steps={index.data?.next ?? []} document={document} onAdd={onAdd} onSelect={select} />}
        <main id="main" className="min-h-0 flex-1 overflow-auto print:overflow-visible" aria-label="Board">
          <h1 className="sr-only">Board of {document.title || document.name}</h1>
          {state ? (
            <Board document={other.document ?? good.document ?? document} state={other.state ?? state} selection={other.selection ?? selection} lost={lost} lostSince={lostSince} folding={folding} onFold={onFold} onSelect={select} onBreak={toggleLost} onAbout={aboutToBreak} lit={lit} addresses={addresses} marks={marks} />
          ) : (
            error && <Trouble error={error} document={document} onSelect={select} />
          )}
        </main>
        {!state || away.foot ? null : drill ? (
          <Suspense fallback={<Skeleton className="m-4 h-[148px]" />}>
          <Timeline
            document={document}
            drill={drill}
            at={looking.mode === "drill" ? looking.at : undefined}
            strip={strip}
            playing={playing}
            onAt={goTo}
            onPlay={setPlaying}
            onDrill={toDrill}
          />
          </Suspense>
        ) : document.drills.length > 0 ? (
          !error && <Skeleton className="m-4 h-[148px]" />
        ) : (
          <section className="flex items-center gap-3 border-t border-line-strong bg-foot px-4 py-3 text-ink-soft" aria-label="Time line">
            <p>No drill yet: what happens over time when something is lost, and when it is back.</p> <Button onClick={() => onAdd("drill")}>Add a drill</Button>
          </section>
        )}
      </div>
      <div className="w-[316px] shrink-0 border-l border-line-strong max-md:fixed max-md:inset-y-0 max-md:right-0 max-md:z-20 max-md:w-[min(340px,100vw)] max-md:shadow-2xl print:hidden" hidden={away.inspector}>
        {side}
      </div>
    </div>
  );
  const kind = isAddKind(search.add) ? search.add : undefined;
  if (kind === undefined || !schema.data) return picture({
      side: (
        <Suspense fallback={<Skeleton className="m-4" />}>
          <Inspector {...inspector} />
        </Suspense>
      ),
    });
  return (
    <Suspense fallback={picture({ side: <Skeleton className="m-4" /> })}>
    <Adding
      key={kind}
      planKey={key}
      asked={asked}
      document={document}
      root={schema.data}
      kind={kind}
      onKind={onAdd}
      onAdded={(added) => change({ add: undefined, select: formatSelection(added) }, false)}
      onLeave={() => onAdd(undefined)}
      picture={picture}
    />
    </Suspense>
  );
}

/** What is folded, and which rows are shown, by the address bar and the selection. */
function useFolding(open: string | undefined, only: string | undefined, expanded: string | undefined, state: BoardState | undefined): Folding {
  const groups = only === "touched" ? state?.groups.filter((one) => one.touched).map((one) => one.name) : state?.clients.find((one) => only === `client:${one.name}`)?.reaches;
  const kept = only === undefined ? undefined : groups?.join(" ");
  return useMemo(
    () => ({ open: open?.split(",").filter(Boolean) ?? [], expanded, only: kept === undefined ? undefined : new Set(kept.split(" ").filter(Boolean)) }),
    [open, expanded, kept],
  );
}

type Good = Pick<Shown, "document" | "drill" | "state" | "looking">;

/** What is shown; where the plan cannot be run just now, what it last could. */
function useLastGood(key: string, shown: Shown): Good {
  const [kept, setKept] = useState<Good & { key: string }>();
  const isGood = !shown.error && shown.state !== undefined;
  if (isGood && (!kept || kept.state !== shown.state || kept.document !== shown.document || kept.drill !== shown.drill || kept.key !== key)) {
    setKept({ key, document: shown.document, drill: shown.drill, state: shown.state, looking: shown.looking });
  }
  return shown.error && kept?.key === key ? kept : shown;
}

/** Above the board of a plan that cannot be run as it now stands: why, and a way to it. */
function StandsInTheWay({ error, document, onSelect }: { error: Error; document: PlanDocument; onSelect: (selection: Selection) => void }) {
  const problems = error instanceof ProblemError ? error.problems : [];
  return (
    <section className="border-b border-vermilion bg-vermilion-fill px-4 py-1.5 text-[13px]" role="alert" aria-label="What stands in the way">
      <b className="font-semibold">The board is as it was: the plan cannot be run now.</b>
      {problems.length === 0 && <p>{error.message}</p>}
      <ul className="max-h-24 overflow-y-auto">
        {problems.map((problem) => {
          const object = objectAt(document, problem.where);
          return (
            <li key={problem.where + problem.message} className="flex flex-wrap items-baseline gap-2">
              {problem.message}
              {object && (
                <button type="button" className="min-h-6 font-medium text-north hover:underline" onClick={() => onSelect(object)}>
                  open {object.name}
                </button>
              )}
            </li>
          );
        })}
      </ul>
    </section>
  );
}

const EMPTY_STATE: BoardState = {
  rps: 0, served_rps: 0, failed_rps: 0, second: 0, failed_by_cause: {}, mean_latency_ms: 0,
  zones: [], regions: [], clients: [], names: [], balancers: [], groups: [], pools: [], probes: [], cells: [], region_cells: [], berths: [], ribbons: [], remarks: [],
};

/** The target whose truth and belief stand at the foot: the selected one, else the one that was noticed last. */
function stripFor(selection: Selection | undefined, drill: DrillAnswer | undefined): [string | undefined, string | undefined] {
  if (selection?.kind === "berth") return halves(selection.name);
  const rows = (drill?.blind ?? []).filter((row) => selection?.kind !== "group" || row.group === selection.name);
  const worst = rows.reduce<(typeof rows)[number] | undefined>((best, row) => (best && best.blind_s >= row.blind_s ? best : row), undefined);
  return [worst?.group ?? (selection?.kind === "group" ? selection.name : undefined), worst?.target];
}

/** For each zone that a drill has lost by now, how long ago. */
function zonesLostSince(document: PlanDocument | undefined, drill: DrillAnswer | undefined, looking: Looking): Map<string, number> {
  if (looking.mode !== "drill") return NOTHING_LOST;
  const since = new Map<string, number>();
  const steps = document?.drills.find((one) => one.name === drill?.name)?.steps ?? [];
  for (const step of [...steps].sort((a, b) => a.at_s - b.at_s)) {
    if (step.at_s > looking.at) break;
    for (const zone of zonesOf(document, step.fail ?? step.restore)) {
      if (step.fail) since.set(zone, looking.at - step.at_s);
      else since.delete(zone);
    }
  }
  return since;
}

function zonesOf(document: PlanDocument | undefined, part: { zone?: string | null; region?: string | null } | null | undefined): string[] {
  if (part?.zone) return [part.zone];
  return document?.regions.find((region) => region.name === part?.region)?.zones ?? [];
}

interface Keys {
  drill: DrillAnswer | undefined;
  at: number | undefined;
  selection: Selection | undefined;
  regions: PlanDocument["regions"] | undefined;
  goTo: (second: number) => void;
  backToNow: () => void;
  toggleLost: (fault: Fault) => void;
  traceHere: (selection: Selection) => void;
  play: () => void;
}

/** The keys of the board. */
function useKeys(keys: Keys) {
  const times = keys.drill?.series.t_s ?? [];
  const at = keys.at;
  const step = (to: number) => times.length > 0 && keys.goTo(times[to] ?? 0);
  useKey("breakIt", () => {
    const part = [focusedPart(), keys.selection].find((one) => one && partOf(one, keys.regions));
    return part !== undefined && keys.toggleLost(part);
  });
  useKey("trace", () => {
    const part = [focusedPart(), keys.selection].find((one) => one?.kind === "client" || one?.kind === "berth");
    return part !== undefined && keys.traceHere(part);
  });
  useKey("nextEvent", () => step(at === undefined ? 0 : nextEvent(times, at, 1)));
  useKey("eventBefore", () => step(nextEvent(times, at ?? 0, -1)));
  useKey("play", () => keys.drill !== undefined && !onButton() && keys.play());
  useKey("back", keys.backToNow);
}

/** The part of the board that has the focus. */
function focusedPart(): Selection | undefined {
  return parseSelection(document.activeElement?.getAttribute("data-part") ?? undefined);
}

/** Measures from the mark of a question to the frame that shows its answer. */
function useRepaintMark(mark: string, measure: string, answer: unknown) {
  useEffect(() => {
    if (!answer || performance.getEntriesByName(mark).length === 0) return;
    const frame = requestAnimationFrame(() => {
      setTimeout(() => {
        if (performance.getEntriesByName(mark).length === 0) return;
        performance.measure(measure, mark);
        performance.clearMarks(mark);
      });
    });
    return () => cancelAnimationFrame(frame);
  }, [mark, measure, answer]);
}
