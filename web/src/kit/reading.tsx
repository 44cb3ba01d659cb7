/** A reading with its reason. */
import { Tooltip } from "radix-ui";
import type { ReactNode } from "react";

/** Explains what it wraps, on hover and on focus. */
function Hint({ text, children, side = "top" }: { text: ReactNode; children: ReactNode; side?: "top" | "bottom" | "left" }) {
  return (
    <Tooltip.Provider>
      <Tooltip.Root delayDuration={250}>
      <Tooltip.Trigger asChild>{children}</Tooltip.Trigger>
      <Tooltip.Portal>
        <Tooltip.Content
          side={side}
          sideOffset={6}
          collisionPadding={8}
          className="z-50 max-w-72 rounded border border-line-strong bg-panel px-2.5 py-1.5 text-xs leading-snug text-ink shadow-md"
        >
          {text}
        </Tooltip.Content>
      </Tooltip.Portal>
      </Tooltip.Root>
    </Tooltip.Provider>
  );
}

export type Tone = "ink" | "vermilion" | "ochre" | "moss";

const TONES: Record<Tone, string> = {
  ink: "text-ink",
  vermilion: "text-vermilion-text",
  ochre: "text-ochre-text",
  moss: "text-moss",
};

/** One reading: what it is, its value with unit, and on hover the reason it is what it is. */
export function Reading({ label, value, tone = "ink", why }: { label: string; value: ReactNode; tone?: Tone; why?: ReactNode }) {
  const shown = (
    <span
      className={`text-right font-semibold ${TONES[tone]} ${why ? "cursor-help underline decoration-dotted decoration-line-strong underline-offset-3" : ""}`}
      tabIndex={why ? 0 : undefined}
    >
      {value}
    </span>
  );
  return (
    <div className="flex items-baseline justify-between gap-3 py-0.5">
      <dt className="text-ink-soft">{label}</dt>
      <dd>{why ? <Hint text={why} side="left">{shown}</Hint> : shown}</dd>
    </div>
  );
}
