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

/** A titled part; at the level of its heading: below that of an inspector, or right below that of a view. */
export function Section({ title, level: Heading = "h3", children }: { title: string; level?: "h2" | "h3"; children: ReactNode }) {
  return (
    <section className="mt-5 first:mt-0">
      {title && <Heading className="mb-1.5 border-b border-line pb-1 text-[13px] font-semibold">{title}</Heading>}
      {children}
    </section>
  );
}

/** Stands where something will be in a moment. */
export function Skeleton({ className = "" }: { className?: string }) {
  return (
    <div className={`flex flex-col gap-3 ${className}`} aria-hidden="true" data-testid="skeleton">
      <span className="h-5 w-1/2 rounded bg-line/60 motion-safe:animate-pulse" />
      <span className="h-3 w-3/4 rounded bg-line/60 motion-safe:animate-pulse" />
      <span className="min-h-24 flex-1 rounded bg-line/40 motion-safe:animate-pulse" />
    </div>
  );
}
