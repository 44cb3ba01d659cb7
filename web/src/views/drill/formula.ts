import type { DrillAnswer, PlanDocument } from "../../api/client";

const round = (value: number) => String(Math.round(value * 1000) / 1000);

/** Why a blind time could be between its earliest and latest: the formula with this plan's numbers in it. */
export function blindFormula(row: DrillAnswer["blind"][number], document: PlanDocument): string {
  const probe = document.probes.find((one) => one.name === row.probe);
  const said = `${round(row.blind_s)} s in this run`;
  if (row.unseen) return `${said}; no probe asks about what was lost, so nobody notices`;
  if (!probe || row.earliest_s === null || row.latest_s === null) return said;
  const interval = probe.interval_s;
  const bounds = `${round(row.earliest_s)} to ${round(row.latest_s)} s possible`;
  if (row.change === "up") {
    const passes = probe.healthy_after;
    const answer = row.earliest_s - (passes - 1) * interval;
    return `${said}; (m - 1) I + a to m I + a = ${passes - 1} × ${interval} + ${round(answer)} to ${passes} × ${interval} + ${round(answer)}: ${bounds}`;
  }
  const fails = probe.unhealthy_after;
  const known = row.earliest_s - (fails - 1) * interval;
  if (probe.next_after === "result") return `${said}; (n - 1)(I + T) + T to n (I + T) + a, n = ${fails}, I = ${interval}, T = ${probe.timeout_s}: ${bounds}`;
  if (known < 1e-9) return `${said}; known at once: (n - 1) I to n I = ${fails - 1} × ${interval} to ${fails} × ${interval}: ${bounds}`;
  return `${said}; (n - 1) I + T to n I + T = ${fails - 1} × ${interval} + ${round(known)} to ${fails} × ${interval} + ${round(known)}: ${bounds}`;
}
