/** The heading of the losses, and the ways between their three views. */
import type { ReactNode } from "react";
import { Link } from "../../plan/route";

const WAYS = ["one at a time", "two at once", "how much is enough"] as const;
export type Way = (typeof WAYS)[number];

export function Head({ planKey, way, children }: { planKey: string; way: Way; children?: ReactNode }) {
  const style = (one: Way) => `min-h-6 rounded border px-2 py-0.5 ${one === way ? "border-ink bg-panel font-semibold" : "border-line-strong hover:border-ink"}`;
  const current = (one: Way) => (one === way ? ("true" as const) : undefined);
  return (
    <header className="mb-3 flex flex-wrap items-baseline gap-3">
      <h1 className="text-xl font-semibold">Losses</h1>
      <nav className="flex flex-wrap gap-1" aria-label="Of losses">
        <Link to="/plans/:key/losses" params={{ key: planKey }} search={{}} aria-current={current(WAYS[0])} className={style(WAYS[0])}>{WAYS[0]}</Link>
        <Link to="/plans/:key/losses" params={{ key: planKey }} search={{ pairs: true }} aria-current={current(WAYS[1])} className={style(WAYS[1])}>{WAYS[1]}</Link>
        <Link to="/plans/:key/sizing" params={{ key: planKey }} search={{}} aria-current={current(WAYS[2])} className={style(WAYS[2])}>{WAYS[2]}</Link>
      </nav>
      {children}
    </header>
  );
}
