/** What something new would be, in figures. */
import type { BoardState } from "../../../api/client";
import { amount, counted, perSecond } from "../../../kit/format";
import { Section } from "../../../kit/parts";
import { usedIn } from "../../../board/labels";
import { Consequence } from "../inspector/probe";
import type { Draft, Preview } from "./draft";

/** Beneath the fields: what it would be, or what would stand in the way. */
export function Meaning({ draft, preview }: { draft: Draft; preview: Preview }) {
  const name = String(draft.value["name"]);
  const probe = draft.kind === "probe" ? name : draft.kind === "group" ? (draft.value["probe"] as string | null) : null;
  const lines = preview.state ? linesOf(draft, preview, preview.state, name) : [];
  return (
    <Section title="What it would be">
      {preview.problems.map((one) => (
        <p key={one.where + one.message} className="text-vermilion-text">
          {one.message}
        </p>
      ))}
      {lines.map((line) => (
        <p key={line}>{line}</p>
      ))}
      {probe && <Consequence probe={probe} consequences={preview.consequences} />}
      {lines.length === 0 && !probe && preview.problems.length === 0 && <p className="text-ink-soft">No traffic depends on it yet.</p>}
    </Section>
  );
}

function linesOf({ kind }: Draft, { document }: Preview, state: BoardState, name: string): string[] {
  const group = state.groups.find((one) => one.name === name);
  const rates = (one: { rps: number; failed_rps: number } | undefined) => (one ? `${perSecond(one.rps)}, of which ${one.failed_rps > 0 ? perSecond(one.failed_rps) : "none"} would fail` : "");
  const balancer = state.balancers.find((one) => one.name === name);
  const pool = state.pools.find((one) => one.name === name);
  switch (kind) {
    case "group": {
      const zones = state.cells.filter((cell) => cell.group === name).length;
      const targets = group?.targets ? `${counted(group.targets, "target")} in ${counted(zones, "zone")}` : "no targets yet: nothing can answer";
      return [targets, `${usedIn(document, name)}${group && group.rps > 0 ? `: ${perSecond(group.rps)}, busiest ${Math.round(group.peak_utilisation * 100)} %` : ""}`];
    }
    case "pool":
      return [(pool?.tiers ?? []).map((tier, index) => `tier ${index + 1}: ${tier.in_use} of ${counted(tier.targets, "target")} in use`).join("; "), rates(pool)];
    case "balancer":
      return [`${counted(balancer?.fronts.length ?? 0, "front")}, ${counted(balancer?.listeners.length ?? 0, "listener")}`, balancer && balancer.rps > 0 ? rates(balancer) : "no name leads to it yet"];
    case "name":
      return [rates(state.names.find((one) => one.name === name))];
    case "client":
      return [rates(state.clients.find((one) => one.name === name))];
    case "instance":
      return [document.target_groups.some((one) => one.targets.some((target) => target.instance === name)) ? "" : "no group has it as a target yet"];
    case "fleet": {
      const fleet = document.fleets.find((one) => one.name === name);
      const each = fleet?.instance.capacity_rps;
      return [each ? `${amount(each * fleet.count)} requests/s together` : "no limit is known", "no group has it as a target yet"];
    }
    default:
      return [];
  }
}
