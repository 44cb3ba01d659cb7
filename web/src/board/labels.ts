import type { PlanDocument } from "../api/client";
import { isOwn } from "../plan/own";

/** Where a group is used, in few words: `web · tier 1 · 95 %`. */
export function usedIn(document: PlanDocument, group: string): string {
  for (const pool of document.pools) {
    for (const [index, tier] of pool.tiers.entries()) {
      const weight = tier.groups[group];
      if (weight === undefined) continue;
      const whole = Object.values(tier.groups).reduce((sum, one) => sum + one, 0);
      const share = whole > 0 && weight < whole ? ` · ${Math.round((weight / whole) * 100)} %` : "";
      return `${pool.name} · tier ${index + 1}${share}`;
    }
  }
  return isOwn(group) ? "its own address" : "in no pool";
}

/** How a name chooses, in few words: `fells-front, then coast-front`. */
export function answersOf(document: PlanDocument, name: string): string {
  const entry = document.names.find((one) => one.name === name);
  const answers = (entry?.answers ?? []).map((answer) => answer.balancer ?? answer.instance ?? answer.address ?? answer.host ?? "");
  return answers.join(entry?.choose === "order" ? ", then " : ", ");
}
