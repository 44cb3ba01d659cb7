import type { KeyboardEvent } from "react";

import type { Schemas } from "../../api/client";
import { counted, percent } from "../../kit/format";
import { zoneTone } from "../../timeline/stack";
import { answersByArea, countsByZone } from "./candidates";

interface BeadsProps {
  trace: Schemas["TraceAnswer"];
  zones: string[];
  words: string;
  /** Which of them is shown above, counted from 1. */
  shown: number;
  onShow: (number: number) => void;
  /** The areas, where they take turns. */
  areas: string[] | undefined;
}

/** The answers of many requests as a row of beads, with their counts against what was to be expected. */
export function Beads({ trace, zones, words, shown, onShow, areas }: BeadsProps) {
  const sent = trace.sequence.length;
  const failed = trace.sequence.filter((place) => trace.expected[place]?.error !== null).length;
  const expectedFailing = trace.expected.reduce((sum, one) => sum + (one.error === null ? 0 : one.expected_share), 0);
  const small = sent > 100;
  return (
    <section className="mt-4 border-t-2 border-line-strong pt-2" aria-label="Again">
      <header className="mb-2 flex items-baseline justify-between">
        <h2 className="font-semibold">
          {sent} times, {words}
        </h2>
        <p className={failed > 0 ? "text-vermilion-text" : "text-ink-soft"} data-testid="tally">
          {sent - failed} answered · {failed} failed · expected {percent(expectedFailing)} to fail
        </p>
      </header>
      <ol className={`flex flex-wrap ${small ? "gap-[2px]" : "gap-1"}`} data-testid="beads">
        {trace.sequence.map((place, index) => (
          <Bead key={index} answer={trace.expected[place]} zones={zones} small={small} number={index + 1} shown={shown === index + 1} onShow={onShow} />
        ))}
      </ol>
      <dl className="mt-3 grid grid-cols-3 gap-x-6 gap-y-1">
        {countsByZone(trace.expected, sent).map((one) => (
          <div key={`${one.zone} ${one.failing}`} className={`flex items-center gap-2 text-[12px] ${one.failing ? "text-vermilion-text" : ""}`}>
            <dt className="w-24 truncate font-medium" title={one.zone}>{one.zone}</dt>
            <dd className="flex items-center gap-2">
              <span className="block h-2.5 rounded-sm" style={{ width: Math.max((one.count / sent) * 90, 2), background: one.failing ? "var(--vermilion)" : zoneTone(zones.indexOf(one.zone)) }} aria-hidden="true" />
              {one.count} of {sent} · expected {Math.round(one.expected * 10) / 10}
              {one.failing ? " failing" : ""}
            </dd>
          </div>
        ))}
      </dl>
      {areas && areas.length > 0 && (
        <table className="mt-3 text-left text-[12px]" data-testid="by-area">
          <caption className="pb-1 text-left font-semibold">Who got what</caption>
          <tbody>
            {answersByArea(trace, areas).map(({ area, answers }) => (
              <tr key={area} className="border-t border-dotted border-line align-baseline">
                <th scope="row" className="py-0.5 pr-6 font-medium">{area}</th>
                <td>{answers.map((one) => `${one.answer}${one.zone ? ` in ${one.zone}` : ""}${one.error ? ` ${one.error.replaceAll("_", " ")}` : ""}${one.count > 1 ? ` ${one.count} times` : ""}`).join(", ") || "nothing yet"}</td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
      <details className="mt-3 text-[12px]">
        <summary className="cursor-pointer font-medium text-north">{counted(trace.expected.length, "answer")} one by one</summary>
        <table className="mt-1 text-left" data-testid="answers">
          <thead className="text-[11px] text-ink-soft">
            <tr>
              {["answer", "zone", "error", "came", "expected"].map((one) => (
                <th key={one} scope="col" className="pr-8 font-normal">{one}</th>
              ))}
            </tr>
          </thead>
          <tbody className="tabular-nums">
            {trace.expected.map((one) => (
              <tr key={one.answer + (one.error ?? "") + (one.cause ?? "")} className="border-t border-dotted border-line">
                <td className="pr-8">{one.answer}</td>
                <td className="pr-8">{one.zone ?? ""}</td>
                <td className="pr-8 text-vermilion-text">{one.error?.replaceAll("_", " ") ?? ""}</td>
                <td className="pr-8 text-right">{one.count}</td>
                <td className="pr-8 text-right">{Math.round(one.expected_share * sent * 100) / 100}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </details>
    </section>
  );
}

interface BeadProps {
  answer: Schemas["Expected"] | undefined;
  zones: string[];
  small: boolean;
  number: number;
  shown: boolean;
  onShow: (number: number) => void;
}

/** One answer; a click shows its way. Among a thousand they are too small to be hit, so the arrow keys go on from one. */
function Bead({ answer, zones, small, number, shown, onShow }: BeadProps) {
  const failing = answer?.error !== null;
  const words = `${number}: ${answer?.answer ?? ""}${answer?.zone ? `, ${answer.zone}` : ""}${failing ? `, ${answer?.error?.replaceAll("_", " ") ?? "fails"}` : ""}`;
  const size = small ? "size-2 rounded-[2px]" : "size-[14px] rounded-[3px]";
  const ring = shown ? "outline-2 outline-offset-1 outline-ink" : "";
  const tone = failing ? "border border-vermilion bg-vermilion-fill text-vermilion-text" : "";
  return (
    <li className="flex">
      <button
        type="button"
        className={`grid place-items-center text-[9px] leading-none font-bold ${tone} ${size} ${ring}`}
        style={failing ? undefined : { background: zoneTone(zones.indexOf(answer.zone ?? "")) }}
        title={words}
        aria-label={words}
        aria-pressed={shown}
        tabIndex={shown ? 0 : -1}
        onClick={() => onShow(number)}
        onKeyDown={(event) => move(event)}
      >
        {failing && !small ? "×" : ""}
      </button>
    </li>
  );
}

/** The arrow keys go from bead to bead. */
function move(event: KeyboardEvent<HTMLButtonElement>) {
  const bead = event.currentTarget.parentElement;
  const next = event.key === "ArrowRight" ? bead?.nextElementSibling : event.key === "ArrowLeft" ? bead?.previousElementSibling : undefined;
  if (next === undefined) return;
  event.preventDefault();
  next?.querySelector("button")?.focus();
}
