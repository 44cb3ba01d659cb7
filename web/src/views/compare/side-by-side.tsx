/** What differs between two revisions, and what follows: drills, cost, findings. */
import type { PlanHead, Schemas } from "../../api/client";
import { money } from "../../kit/format";
import { Section, Skeleton } from "../../kit/parts";
import { useCompare, type Before } from "../../plan/deciding";
import { usePlan, type Asked } from "../../plan/queries";
import { Trouble } from "../../plan/trouble";
import { LaidOver } from "./laid-over";
import { LossesCompared } from "./losses";
import { NEITHER, priceWords, readingWords, shownReading } from "./words";

type Both = Schemas["Both"];

export function SideBySide({ asked, head, before }: { asked: Asked; head: PlanHead; before: Before }) {
  const compared = useCompare(asked, before);
  const other = usePlan(before.beside ?? "", before.beside !== undefined);
  const earlier: Asked = before.beside ? { key: before.beside, revision: other.data?.head.revision } : { key: asked.key, revision: before.since ?? head.agreed ?? 1 };
  if (compared.error) return <Trouble error={compared.error} />;
  if (!compared.data) return <><p role="status" className="mb-2 text-ink-soft">Running every drill on both …</p><Skeleton className="h-60" /></>;
  const { differences, drills, cost_month: cost, prices_missing: missing, findings } = compared.data;
  return (
    <div className="grid gap-x-8 lg:grid-cols-[minmax(0,5fr)_minmax(0,7fr)]" data-testid="compared">
      <div>
        <Section level="h2" title={`What differs (${differences.length})`}>
          {differences.length === 0 && <p className="text-ink-soft">Nothing: the two are the same.</p>}
          <ul className="space-y-1">
            {differences.map((one) => (
              <li key={one.where + one.words} className="flex items-baseline justify-between gap-3">
                <span className="min-w-0">{one.words}</span>
                <span className={`shrink-0 rounded border px-1.5 text-[11px] ${one.how === "replace" ? "border-vermilion text-vermilion-text" : "border-line-strong text-ink-soft"}`}>{one.how}</span>
              </li>
            ))}
          </ul>
        </Section>
        <Section level="h2" title="Findings">
          <Moved words="gained" findings={findings.gained} />
          <Moved words="lost" findings={findings.lost} />
          {findings.gained.length + findings.lost.length === 0 && <p className="text-ink-soft">None comes, and none goes.</p>}
        </Section>
        <Section level="h2" title="Cost of a month">
          <p className="tabular-nums">{money(cost.a)} → <b className="font-semibold">{money(cost.b)}</b></p>
          {missing.length > 0 && <p className="text-[12px] text-ink-soft">without {missing.map(priceWords).join(", ")}: no price is given</p>}
        </Section>
        <LossesCompared asked={asked} before={before} />
      </div>
      <div>
        <Section level="h2" title="The same drills">
          {drills.length === 0 && <p className="text-ink-soft">No drill is written yet.</p>}
          {drills.map((drill) => (
            <div key={drill.name} className="mb-4">
              <DrillTable drill={drill} />
              {drill.held.a !== null && drill.held.b !== null && <LaidOver drill={drill.name} before={earlier} after={asked} />}
            </div>
          ))}
        </Section>
      </div>
    </div>
  );
}

function Moved({ words, findings }: { words: string; findings: Schemas["FindingAnswer"][] }) {
  return findings.map((one) => (
    <p key={one.code + one.about} className="mb-1">
      <span className={`mr-1.5 rounded border px-1.5 text-[11px] ${words === "gained" ? "border-ochre text-ochre-text" : "border-moss text-moss"}`}>{words}</span>{" "}
      <b className="font-semibold">{one.severity}</b> {one.message}
    </p>
  ));
}

const HELD = { true: "held", false: "not held", null: "cannot be run" } as const;

/** The readings of one drill that differ, and whether what it expects is held. */
function DrillTable({ drill }: { drill: Schemas["DrillPair"] }) {
  const moved = Object.entries(drill.readings).filter(([name, both]) => shownReading(name, both.a) !== shownReading(name, both.b));
  const held = (value: boolean | null) => HELD[String(value) as keyof typeof HELD];
  return (
    <div className="relative max-w-full overflow-x-auto" tabIndex={0} role="group" aria-label={`Drill ${drill.name}`}>
      <table className="w-full table-fixed text-left tabular-nums">
        <thead>
          <tr>
            <th scope="col" className="w-1/2 pr-3 pb-0.5 font-semibold">{drill.name}</th>
            <th scope="col" className="pr-3 pb-0.5 text-right text-[12px] font-normal text-ink-soft">before: {held(drill.held.a)}</th>
            <th scope="col" className="pb-0.5 text-right text-[12px] font-normal text-ink-soft">after: {held(drill.held.b)}</th>
          </tr>
        </thead>
        <tbody>
          {moved.length === 0 && <tr><td className="text-ink-soft" colSpan={3}>comes to the same</td></tr>}
          {moved.map(([name, both]) => (
            <tr key={name} className="border-t border-dotted border-line">
              <td className="pr-3 text-ink-soft">{readingWords(name)}</td>
              <td className="pr-3 text-right">{shownReading(name, both.a)}</td>
              <td className={`text-right font-semibold ${tone(name, both)}`}>{shownReading(name, both.b)}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

/** Less is better of what fails, of how long it takes, and of how busy the busiest is. */
function tone(name: string, { a, b }: Both): string {
  if (a === null || b === null || NEITHER.has(name)) return "";
  return b < a ? "text-moss" : "text-vermilion-text";
}
