/** Marks at what a review has found something of: the worst of it. */
import { SeverityMark } from "../../plan/severity";
import type { Box } from "../geometry";
import { LABELS } from "../geometry";
import type { PartProps } from "./shared";

export function Marks({ layout, marks }: PartProps) {
  const boxes: [string, Box][] = [
    ...layout.clients.map((box) => [`client:${box.name}`, box] as [string, Box]),
    ...layout.names.map((box) => [`name:${box.name}`, box] as [string, Box]),
    ...layout.balancers.map((box) => [`balancer:${box.name}`, box] as [string, Box]),
    ...layout.zones.map((box) => [`${box.folded ? "region" : "zone"}:${box.name}`, box] as [string, Box]),
    ...layout.rows.map((row) => [`group:${row.group}`, { x: 6, y: row.y + 1, width: LABELS - 12, height: row.height }] as [string, Box]),
  ];
  return boxes.map(([part, box]) => {
    const severity = marks.get(part);
    return severity ? (
      <span key={part} className="pointer-events-none absolute grid size-4 place-items-center rounded-full border border-line-strong bg-panel" style={{ left: box.x + box.width - 10, top: box.y - 6 }} data-mark={part}>
        <SeverityMark severity={severity} />
      </span>
    ) : null;
  });
}
