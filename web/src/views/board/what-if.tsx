/** What if something were lost, or added now: which of its three moments is shown, and what fails until it is noticed. */
import { HelpCircle } from "lucide-react";
import { RadioGroup } from "radix-ui";
import { amount, span } from "../../kit/format";
import type { Looking } from "../../plan/moment";
import { MOMENTS, type Moment } from "../../plan/searches";

const WORDS: Record<"lost" | "added", Record<Moment, string>> = {
  lost: { at_once: "at once", noticed: "noticed", settled: "settled" },
  added: { at_once: "at once", noticed: "proven", settled: "settled" },
};

export function WhatIf({ looking, onMoment }: { looking: Extract<Looking, { mode: "what-if" }>; onMoment: (moment: Moment) => void }) {
  const { answer } = looking;
  const times: Record<Moment, string> = {
    at_once: "0 s",
    noticed: `${span(answer.noticed_after_s)} at worst`,
    settled: answer.settles ? span(answer.settled_after_s) : "not within the hour",
  };
  return (
    <>
      <p className="flex max-w-full min-w-32 items-center gap-2">
        <HelpCircle size={15} className="shrink-0" aria-hidden="true" />
        <span className="truncate">
          {looking.change === "lost" ? "What if" : "As if"} <b className="font-semibold">{looking.words}</b>
        </span>
      </p>
      <RadioGroup.Root
        className="flex shrink-0 overflow-hidden rounded border border-line-strong"
        aria-label={looking.change === "lost" ? "Moment of the loss" : "Moment of the addition"}
        orientation="horizontal"
        value={looking.moment}
        onValueChange={(value) => onMoment(value as Moment)}
      >
        {MOMENTS.map((moment) => (
          <RadioGroup.Item
            key={moment}
            value={moment}
            className="border-r border-line-strong bg-panel px-2 py-0.5 text-[12px] last:border-r-0 data-[state=checked]:bg-ink data-[state=checked]:text-paper"
          >
            <b className="font-semibold">{WORDS[looking.change][moment]}</b> <span className="opacity-80">{times[moment]}</span>
          </RadioGroup.Item>
        ))}
      </RadioGroup.Root>
      <span className={`truncate text-[12px] ${answer.failed_until_noticed > 0 ? "text-vermilion-text" : "text-ink-soft"}`} data-testid="what-if-failed" title={`${amount(answer.failed_until_noticed)} requests fail until everybody has noticed`}>
        {amount(answer.failed_until_noticed)} fail until {WORDS[looking.change].noticed}
      </span>
    </>
  );
}
