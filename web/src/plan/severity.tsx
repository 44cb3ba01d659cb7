import type { Severity } from "./judging";

/** How bad a finding is, by shape and colour: a bar across the way, a gap in it, a dot beside it. */
export function SeverityMark({ severity, className = "" }: { severity: Severity; className?: string }) {
  return (
    <svg viewBox="0 0 14 14" width="12" height="12" className={`inline-block shrink-0 ${className}`} role="img" aria-label={severity}>
      {severity === "stops" && <rect x="0" y="4" width="14" height="6" rx="1" fill="var(--vermilion)" />}
      {severity === "risks" && (
        <g fill="var(--ochre)">
          <rect x="0" y="5" width="5" height="4" rx="1" />
          <rect x="9" y="5" width="5" height="4" rx="1" />
        </g>
      )}
      {severity === "advice" && <circle cx="7" cy="7" r="3" fill="none" stroke="var(--ink-soft)" strokeWidth="1.5" />}
    </svg>
  );
}
