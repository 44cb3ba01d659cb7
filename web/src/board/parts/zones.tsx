/** Zones, and what of each group stands in them. */

import { ChevronsLeftRight, ChevronsRightLeft, X } from "lucide-react";
import { useEffect, useState, type ReactNode, type RefObject } from "react";

import type { BoardState, Schemas } from "../../api/client";
import { percent, perSecond, span } from "../../kit/format";
import { useLingering } from "../../kit/lingering";
import { formatSelection, isOutside, partOf, type Selection } from "../../plan/selection";
import { Berth } from "../berth";
import { berthsPerLine, CELL_PADDING, isFolded, ZONE_HEAD, type BoardLayout, type ColumnPlace, type RowPlace } from "../geometry";
import { failsVisibly } from "../failing";
import { at, isSelected, placeState, type PartProps } from "./shared";

/** The names of the columns, kept in sight while the rows are scrolled. */
export function StickyHeads({ layout, state, frame }: { layout: BoardLayout; state: BoardState; frame: RefObject<HTMLDivElement | null> }) {
  const [past, setPast] = useState(false);
  const top = layout.zones[0]?.y ?? 0;
  useEffect(() => {
    const element = frame.current;
    if (!element) return;
    const look = () => setPast(element.scrollTop > top);
    element.addEventListener("scroll", look, { passive: true });
    return () => element.removeEventListener("scroll", look);
  }, [frame, top]);
  if (!past) return null;
  return (
    <div className="sticky top-0 z-10 h-0" aria-hidden="true">
      <div className="relative h-7 border-b border-line-strong bg-paper" style={{ width: layout.width }}>
        {layout.zones.map((box) => (
          <span key={box.name} className="absolute flex justify-between gap-1 overflow-hidden px-2 leading-7" style={{ left: box.x, width: box.width }}>
            <b className="truncate font-semibold">{box.name}</b>
            <span className="text-ink-soft">{perSecond(placeState(state, box)?.served_rps ?? 0)}</span>
          </span>
        ))}
      </div>
    </div>
  );
}

export function Zones(props: PartProps) {
  const { layout, state, selection, lostSince, lost } = props;
  return layout.zones.map((box) => {
    const zone = placeState(state, box);
    const isLost = zone?.lost ?? false;
    const self: Selection = { kind: box.folded ? "region" : "zone", name: box.name };
    const inWhatIf = lost.some((one) => formatSelection(one) === formatSelection(self));
    return (
      <section
        key={box.name}
        aria-label={`${self.kind} ${box.name}`}
        className={`absolute rounded border ${isLost ? "border-line-strong bg-lost" : "border-line bg-panel/60"} ${isSelected(selection, self.kind, box.name) ? "outline-2 outline-north" : ""}`}
        style={at(box)}
        data-zone={box.name}
        data-lost={isLost}
      >
        <ZoneHead {...props} box={box} zone={zone} since={lostSince.get(box.name)} inWhatIf={inWhatIf} self={self} />
        {layout.rows.map((row) => (
          <div
            key={row.group}
            className="absolute right-0 left-0 border-t border-dashed border-line"
            style={{ top: row.y - box.y, height: row.height, padding: row.compact ? `4px ${CELL_PADDING}px` : `7px ${CELL_PADDING}px` }}
          >
            <Cell {...props} row={row} zone={box} isLost={isLost} />
          </div>
        ))}
      </section>
    );
  });
}

interface ZoneHeadProps extends PartProps {
  box: ColumnPlace;
  zone: Schemas["ZoneState"] | undefined;
  since: number | undefined;
  inWhatIf: boolean;
  self: Selection;
}

function ZoneHead({ document, box, zone, since, inWhatIf, self, onSelect, onBreak, onAbout, onFold, layout }: ZoneHeadProps) {
  const about = useLingering(() => onAbout?.(self));
  const foldable = box.folded || (box.first && layout.zones.some((one) => one.folded));
  return (
    <header className="flex items-start justify-between gap-0.5 pt-1.5 pr-1 pl-2.5" style={{ height: ZONE_HEAD }}>
      <button type="button" className="min-w-0 flex-1 text-left leading-tight" data-part={formatSelection(self)} onClick={() => onSelect(self)}>
        <span className="flex items-baseline justify-between gap-2">
          <span className="truncate text-[13px] font-semibold">{self.name}</span>
          {zone?.lost ? (
            <span className="text-[11px] font-semibold text-vermilion-text">lost{since === undefined ? "" : ` ${span(since)}`}</span>
          ) : (
            <span className="text-[12px] text-ink-soft" data-reading="zone-served">
              {perSecond(zone?.served_rps ?? 0)}
            </span>
          )}
        </span>
        <span className={`block truncate text-[11px] ${zone?.lost ? "text-ink" : "text-ink-soft"}`}>
          {zone && failsVisibly(zone) ? (
            <b className="font-semibold text-vermilion-text">{perSecond(zone.failed_rps)} fail here</b>
          ) : isOutside(document.regions, self.name) ? (
            "not part of the plan"
          ) : zone && zone.from_elsewhere_rps > 0 ? (
            `${perSecond(zone.from_elsewhere_rps)} crosses zones`
          ) : zone?.lost ? (
            "nothing is sent here"
          ) : (
            "nothing crosses zones"
          )}
        </span>
      </button>
      {foldable && (
        <button
          type="button"
          className="grid size-6 place-items-center rounded border border-transparent text-ink-soft hover:border-north hover:text-north"
          aria-label={box.folded ? `Unfold region ${box.region}` : `Fold region ${box.region}`}
          title={box.folded ? `Unfold region ${box.region}` : `Fold region ${box.region}`}
          onClick={() => onFold(box.region)}
        >
          {box.folded ? <ChevronsLeftRight size={14} /> : <ChevronsRightLeft size={14} />}
        </button>
      )}
      {onBreak && partOf(self, document.regions) && (
        <button
          {...about}
          type="button"
        className={`grid size-6 place-items-center rounded border ${inWhatIf ? "border-vermilion bg-vermilion text-panel" : "border-transparent text-ink-soft hover:border-vermilion hover:text-vermilion-text"}`}
        aria-label={inWhatIf ? `Bring ${self.name} back` : `What if ${self.name} were lost?`}
        aria-pressed={inWhatIf}
        title={inWhatIf ? "Bring it back (x)" : `What if ${self.name} were lost? (x)`}
        onClick={() => onBreak(self)}
      >
        <X size={14} strokeWidth={2.4} />
      </button>
      )}
    </header>
  );
}

function Cell({ state, layout, selection, onSelect, row, zone, isLost, folding, addresses }: PartProps & { row: RowPlace; zone: ColumnPlace; isLost: boolean }): ReactNode {
  const { group } = row;
  const cell = (zone.folded ? state.region_cells : state.cells).find((one) => one.group === group && one.zone === zone.name);
  if (!cell) return <span className="pl-1 text-line-strong">—</span>;
  const folded = zone.folded || row.compact || (group !== folding.expanded && isFolded(cell.targets, zone.width));
  const berths = folded ? [] : state.berths.filter((one) => one.group === group && one.zone === zone.name);
  if (folded || berths.length === 0) return <FoldedCell cell={cell} roomy={!row.compact} onSelect={() => onSelect({ kind: "group", name: group })} />;
  return (
    <>
      <span className="flex flex-wrap" style={{ maxWidth: berthsPerLine(zone.width, layout.berth) * layout.berth }}>
        {berths.map((berth, place) => (
          <Berth
            key={berth.target}
            berth={berth}
            lost={isLost}
            reached={place === 0 || isSelected(selection, "berth", `${group}/${berth.target}`)}
            size={layout.berth}
            address={addresses.get(berth.target)?.[0]}
            selected={isSelected(selection, "berth", `${group}/${berth.target}`)}
            onSelect={() => onSelect({ kind: "berth", name: `${group}/${berth.target}` })}
          />
        ))}
      </span>
      {berths.every((berth) => berth.believed_of === 0) ? <span className="mt-0.5 block pl-0.5 text-[11px] text-lost-ink">nobody sends here</span> : <CellCaption cell={cell} />}
    </>
  );
}

/** Very many targets in one line: `14/18 · 71 % · 2 unnoticed`, over a bar of the share in use. */
function FoldedCell({ cell, roomy, onSelect }: { cell: Schemas["CellState"]; roomy: boolean; onSelect: () => void }) {
  const share = cell.targets > 0 ? cell.in_use / cell.targets : 0;
  const wrong = cell.unnoticed > 0;
  const words = `${cell.in_use}/${cell.targets} · ${percent(cell.peak_utilisation)}${wrong ? ` · ${cell.unnoticed} ${cell.unproven === cell.unnoticed ? "not yet proven" : "unnoticed"}` : ""}`;
  return (
    <button type="button" className="block w-full text-left" title={`${cell.group} in ${cell.zone}: ${words}`} onClick={onSelect}>
      <span className={`block truncate text-[11px] leading-tight ${wrong ? "font-semibold text-vermilion-text" : ""}`}>{words}</span>
      <span className={`mt-px flex ${roomy ? "h-2" : "h-1"} overflow-hidden rounded-sm bg-lost`}>
        <span className="hatched block h-full" style={{ width: `${(cell.unnoticed / Math.max(cell.targets, 1)) * 100}%` }} />
        <span className={`block h-full ${cell.peak_utilisation >= 0.8 ? "bg-ochre-fill" : "bg-moss-fill"}`} style={{ width: `${Math.max(share - cell.unnoticed / Math.max(cell.targets, 1), 0) * 100}%` }} />
      </span>
    </button>
  );
}

function CellCaption({ cell }: { cell: Schemas["CellState"] }) {
  if (cell.unproven > 0 && cell.unproven === cell.unnoticed) {
    return (
      <span className="mt-0.5 block truncate pl-0.5 text-[11px] font-semibold text-ochre-text">
        {cell.unproven} of {cell.targets} not yet proven
      </span>
    );
  }
  if (cell.unnoticed > 0) {
    const right = cell.targets - cell.unnoticed;
    return (
      <span className="mt-0.5 block truncate pl-0.5 text-[11px] font-semibold text-vermilion-text">
        {right} of {cell.targets} noticed{cell.failed_rps > 0 ? ` · ${perSecond(cell.failed_rps)} fail` : ""}
      </span>
    );
  }
  if (cell.in_use === 0) return <span className="mt-0.5 block pl-0.5 text-[11px] text-lost-ink">out</span>;
  return (
    <span className="mt-0.5 block truncate pl-0.5 text-[11px] text-ink-soft">
      {cell.rps > 0 ? `${cell.in_use} × ${perSecond(cell.mean_rps)} · ${percent(cell.peak_utilisation)}` : "standing by"}
    </span>
  );
}
