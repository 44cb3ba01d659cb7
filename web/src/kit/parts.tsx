import { Tooltip } from "radix-ui";
import type { ComponentProps, ReactNode } from "react";

/** A quiet button with a rule around it. */
export function Button({ tone = "plain", className = "", ...rest }: ComponentProps<"button"> & { tone?: "plain" | "danger" | "bar" | "main" }) {
  const tones = {
    plain: "border-line-strong bg-panel text-ink hover:border-ink",
    danger: "border-vermilion bg-vermilion-fill text-vermilion-text hover:bg-vermilion hover:text-panel",
    main: "border-north bg-north text-panel hover:opacity-90 disabled:opacity-50",
    bar: "border-bar-soft/40 text-bar-ink hover:border-bar-ink",
  };
  return (
    <button
      type="button"
      className={`inline-flex min-h-6 items-center gap-1.5 rounded border px-2 py-0.5 font-medium transition-colors ${tones[tone]} ${className}`}
      {...rest}
    />
  );
}

/** A square button that shows an icon and says what it does. */
export function IconButton({ label, quiet = false, className = "", ...rest }: ComponentProps<"button"> & { label: string; quiet?: boolean }) {
  return (
    <button
      type="button"
      aria-label={label}
      title={label}
      className={`grid size-6 shrink-0 place-items-center rounded border text-ink hover:border-ink disabled:opacity-40 ${quiet ? "border-transparent" : "border-line-strong bg-panel"} ${className}`}
      {...rest}
    />
  );
}

/** Explains what it wraps, on hover and on focus. */
export function Hint({ text, children, side = "top" }: { text: ReactNode; children: ReactNode; side?: "top" | "bottom" | "left" }) {
  return (
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
  );
}

/** A section of the inspector; one within another thing has no title of its own. */
export function Section({ title, children }: { title: string; children: ReactNode }) {
  return (
    <section className="mt-5 first:mt-0">
      {title && <h3 className="mb-1.5 border-b border-line pb-1 text-[13px] font-semibold">{title}</h3>}
      {children}
    </section>
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
