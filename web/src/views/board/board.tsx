import { ChevronsLeftRight, ChevronsRightLeft, X } from "lucide-react";
import { memo, useEffect, useMemo, useState, type CSSProperties, type ReactNode, type RefObject } from "react";

import type { BoardState, PlanDocument, Schemas } from "../../api/client";
import { amount, percent, perSecond, span } from "../../kit/format";
import { useWidth } from "../../kit/use-width";
import { formatSelection, type Selection } from "../../plan/selection";
import { Berth } from "./berth";
import { berthsPerLine, BERTH, CELL_PADDING, isFolded, LABELS, layOut, ZONE_HEAD, type BoardLayout, type Box, type ColumnPlace, type Folding, type FrontPlace, type Placed, type RowPlace } from "./geometry";
import { answersOf, usedIn } from "./labels";
import { LitPath } from "./lit-path";
import { arcs, bands } from "./ribbons";

interface BoardProps {
  document: PlanDocument;
  state: BoardState;
  selection: Selection | undefined;
  lost: Selection[];
  /** For each zone that is lost, how long ago, in seconds. */
  lostSince: ReadonlyMap<string, number>;
  onSelect: (selection: Selection) => void;
  onBreak: (selection: Selection) => void;
  folding: Folding;
  onFold: (region: string) => void;
  /** The parts that a traced request passes. */
  lit: string[];
}

function at(box: Box): CSSProperties {
  return { left: box.x, top: box.y, width: box.width, height: box.height };
}

/** The board: zones across, the way of a request down. */
export function Board(props: BoardProps) {
  const { frame, width } = useWidth();
  const layout = useMemo(
    () => (width > 0 ? layOut(props.document, props.state, width, props.folding) : undefined),
    [props.document, props.state, width, props.folding],
  );
  return (
    <div ref={frame} className="relative h-full overflow-auto" data-testid="board">
      {layout && (
        <div className="relative" style={{ height: layout.height, minWidth: "100%" }}>
          <StickyHeads layout={layout} state={props.state} frame={frame} />
          <RowLabels {...props} layout={layout} />
          <Ribbons state={props.state} layout={layout} selection={props.selection} />
          <Clients {...props} layout={layout} />
          <Names {...props} layout={layout} />
          <Balancers {...props} layout={layout} />
          <Zones {...props} layout={layout} />
          {props.lit.length > 0 && <LitPath parts={props.lit} frame={frame} layout={layout} />}
        </div>
      )}
    </div>
  );
}

interface PartProps extends BoardProps {
  layout: BoardLayout;
}

function isSelected(selection: Selection | undefined, kind: Selection["kind"], name: string): boolean {
  return selection?.kind === kind && selection.name === name;
}

function RowLabels({ document, state, layout, selection, onSelect }: PartProps) {
  const label = "absolute left-3 text-left leading-tight";
  return (
    <>
      <div className={label} style={{ top: layout.labels.clients + 3 }}>
        <h2 className="text-[12px] font-semibold">Clients</h2>
        <p className="text-[11px] text-ink-soft">{amount(state.rps)} requests/s</p>
      </div>
      <div className={label} style={{ top: layout.labels.names + 2 }}>
        <h2 className="text-[12px] font-semibold">Names</h2>
        <p className="text-[11px] text-ink-soft">what DNS answers</p>
      </div>
      <div className={label} style={{ top: layout.labels.balancers + 5 }}>
        <h2 className="text-[12px] font-semibold">Balancers</h2>
        <p className="text-[11px] text-ink-soft">listeners, fronts</p>
      </div>
      {layout.rows.map((row) => {
        const group = document.target_groups.find((one) => one.name === row.group);
        return (
          <button
            key={row.group}
            type="button"
            className={`${label} rounded px-1.5 py-1 hover:bg-line/50 ${isSelected(selection, "group", row.group) ? "bg-north-fill" : ""}`}
            style={{ top: row.y + (row.compact ? 1 : 4), left: 6, width: LABELS - 12 }}
            title={row.compact ? `${row.group}: ${usedIn(document, row.group)}` : undefined}
            data-part={`group:${row.group}`}
            onClick={() => onSelect({ kind: "group", name: row.group })}
          >
            <span className="block truncate text-[13px] font-semibold">{row.group}</span>
            {!row.compact && (
              <>
                <span className="block truncate text-[11px] text-ink-soft">{usedIn(document, row.group)}</span>
                <span className="block truncate text-[11px] text-ink-soft">{group?.balance.replace("-", " ")}</span>
              </>
            )}
          </button>
        );
      })}
    </>
  );
}

const Ribbons = memo(function Ribbons({ state, layout, selection }: { state: BoardState; layout: BoardLayout; selection: Selection | undefined }) {
  const selected = selection && formatSelection(selection);
  const ribbons = useMemo(() => bands(state, layout), [state, layout]);
  const crossing = useMemo(() => arcs(state, layout, selected), [state, layout, selected]);
  return (
    <svg className="pointer-events-none absolute inset-0" width={layout.width} height={layout.height} aria-hidden="true">
      <defs>
        <pattern id="hatch" width="5" height="5" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
          <rect width="5" height="5" fill="var(--vermilion-fill)" />
          <line x1="0" y1="0" x2="0" y2="5" stroke="var(--vermilion)" strokeWidth="1.6" strokeOpacity="0.6" />
        </pattern>
      </defs>
      {ribbons.map((one) => (
        <g key={one.key} data-ribbon={one.key}>
          <path d={one.path} fill={selected === one.source || selected === one.to ? "var(--north)" : "var(--ribbon)"} />
          {one.failing && <path d={one.failing} fill="var(--vermilion)" />}
        </g>
      ))}
      {crossing.map((one) => (
        <path
          key={one.key}
          d={one.path}
          fill="none"
          stroke={one.failing ? "var(--vermilion)" : "var(--north)"}
          strokeOpacity={0.75}
          strokeWidth={Math.min(one.width, 10)}
        />
      ))}
    </svg>
  );
});

function Clients({ document, state, layout, selection, onSelect }: PartProps) {
  return layout.clients.map((box) => {
    const rates = state.clients.find((one) => one.name === box.name);
    const client = document.clients.find((one) => one.name === box.name);
    return (
      <button
        key={box.name}
        type="button"
        className={`absolute flex items-center justify-between gap-2 rounded-full border pr-3.5 pl-4 text-left leading-tight hover:border-ink ${isSelected(selection, "client", box.name) ? "border-north bg-north-fill" : "border-line-strong bg-panel"}`}
        style={at(box)}
        data-part={`client:${box.name}`}
        onClick={() => onSelect({ kind: "client", name: box.name })}
      >
        <span className="min-w-0">
          <span className="block truncate font-semibold">{box.name}</span>
          <span className="block truncate text-[11px] text-ink-soft">{client?.area ?? "anywhere"}</span>
        </span>
        <Rate rates={rates} />
      </button>
    );
  });
}

/** A rate, and in vermilion beneath it what of it fails. */
function Rate({ rates }: { rates: { rps: number; failed_rps: number } | undefined }) {
  if (!rates) return null;
  return (
    <span className="shrink-0 text-right leading-tight">
      <span className="block font-semibold text-north">{perSecond(rates.rps)}</span>
      {rates.failed_rps > 0 && <span className="block text-[11px] font-semibold text-vermilion-text">{amount(rates.failed_rps)} fail</span>}
    </span>
  );
}

function Names({ document, state, layout, selection, onSelect }: PartProps) {
  return layout.names.map((box) => {
    const entry = document.names.find((one) => one.name === box.name);
    const rates = state.names.find((one) => one.name === box.name);
    return (
      <button
        key={box.name}
        type="button"
        className={`absolute flex items-center justify-between gap-3 rounded border-[1.5px] px-3 text-left hover:border-north ${isSelected(selection, "name", box.name) ? "border-north bg-north-fill" : "border-ink bg-panel"}`}
        style={at(box)}
        title={`${answersOf(document, box.name)} · kept for ${entry?.ttl_s ?? 60} s · ${perSecond(rates?.rps ?? 0)}`}
        data-part={`name:${box.name}`}
        onClick={() => onSelect({ kind: "name", name: box.name })}
      >
        <span className="min-w-0 truncate font-semibold">{box.name}</span>
        <span className="shrink-0 text-[11px] text-ink-soft">TTL {entry?.ttl_s ?? 60} s</span>
      </button>
    );
  });
}

function Balancers({ document, state, layout, selection, lost, onSelect, onBreak }: PartProps) {
  return (
    <>
      {layout.balancers.map((box) => (
        <BalancerBox key={box.name} box={box} document={document} state={state} selection={selection} onSelect={onSelect} />
      ))}
      {layout.fronts.map((box) => (
        <FrontChip key={box.name} box={box} state={state} selection={selection} lost={lost} onSelect={onSelect} onBreak={onBreak} />
      ))}
    </>
  );
}

function FrontChip({ box, state, selection, lost, onSelect, onBreak }: { box: FrontPlace } & Pick<PartProps, "state" | "selection" | "lost" | "onSelect" | "onBreak">) {
  const fronts = state.balancers.find((one) => one.name === box.balancer)?.fronts ?? [];
  const front = fronts.find((one) => one.zone === box.zone);
  const self: Selection = { kind: "front", name: box.name };
  const broken = lost.some((one) => formatSelection(one) === formatSelection(self));
  const common = "absolute rounded border text-[11px] font-semibold";
  if (!front) {
    return (
      <span className={`${common} grid place-items-center border-north bg-north-fill text-north`} style={at(box)}>
        {box.count} fronts
      </span>
    );
  }
  return (
    <button
      type="button"
      className={`${common} ${frontTone(front)} ${isSelected(selection, "front", box.name) ? "ring-2 ring-north" : ""}`}
      style={at(box)}
      data-part={`front:${box.name}`}
      title={frontWords(box.name, front)}
      onClick={() => onSelect(self)}
      onDoubleClick={() => onBreak(self)}
    >
      {front.dead || broken ? "dead" : front.in_address ? "front" : "joining"}
    </button>
  );
}

function frontTone(front: Schemas["FrontState"] | undefined): string {
  if (front?.dead) return front.in_address ? "hatched border-vermilion text-vermilion-text bg-vermilion-fill" : "border-line-strong bg-lost text-lost-ink";
  return front?.in_address === false ? "border-dashed border-north bg-panel text-north" : "border-north bg-north-fill text-north";
}

function frontWords(name: string, front: Schemas["FrontState"] | undefined): string {
  if (!front) return name;
  const life = front.dead ? "dead" : "living";
  const address = front.in_address ? "in the address" : "not in the address";
  return `${name}: ${life}, ${address}, ${perSecond(front.rps)}${front.dead_rps > 0 ? `, ${perSecond(front.dead_rps)} meet it dead` : ""}`;
}

function BalancerBox({ box, document, state, selection, onSelect }: { box: Placed } & Pick<PartProps, "document" | "state" | "selection" | "onSelect">) {
  const balancer = document.balancers.find((one) => one.name === box.name);
  const rates = state.balancers.find((one) => one.name === box.name);
  const zones = Object.keys(balancer?.zones ?? {}).length;
  return (
    <div
      className={`absolute flex items-start justify-between gap-2 rounded border-[1.5px] px-3 pt-1 leading-tight ${isSelected(selection, "balancer", box.name) ? "border-north bg-north-fill" : balancer?.exposure === "internal" ? "border-dashed border-ink bg-paper" : "border-ink bg-panel"}`}
      style={at(box)}
    >
      <button type="button" className="min-w-0 text-left" data-part={`balancer:${box.name}`} onClick={() => onSelect({ kind: "balancer", name: box.name })}>
        <span className="block truncate text-[13px] font-semibold">{box.name}</span>
        <span className="block truncate text-[11px] text-ink-soft">
          {balancer?.exposure} · layer {balancer?.layer} · {zones} fronts · {perSecond(rates?.rps ?? 0)}
        </span>
      </button>
      <span className="flex shrink-0 gap-1.5">
        {balancer?.listeners.map((listener) => (
          <button
            key={listener.name}
            type="button"
            className={`rounded border border-north px-1.5 py-0.5 font-mono text-[11px] font-semibold text-north hover:bg-panel ${isSelected(selection, "listener", `${box.name}/${listener.name}`) ? "bg-panel ring-2 ring-north" : "bg-north-fill"}`}
            data-part={`listener:${box.name}/${listener.name}`}
            onClick={() => onSelect({ kind: "listener", name: `${box.name}/${listener.name}` })}
          >
            {listener.protocol} {listener.port}
            {listener.otherwise.redirect ? " ↗" : ""}
          </button>
        ))}
      </span>
    </div>
  );
}

/** The names of the columns, kept in sight while the rows are scrolled. */
function StickyHeads({ layout, state, frame }: { layout: BoardLayout; state: BoardState; frame: RefObject<HTMLDivElement | null> }) {
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

/** The state of a column: of its zone, or of its region when that is folded. */
function placeState(state: BoardState, box: ColumnPlace): Schemas["ZoneState"] | undefined {
  return (box.folded ? state.regions : state.zones).find((one) => one.name === box.name);
}

function Zones(props: PartProps) {
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

function ZoneHead({ box, zone, since, inWhatIf, self, onSelect, onBreak, onFold, layout }: ZoneHeadProps) {
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
        <span className="block truncate text-[11px] text-ink-soft">
          {zone && zone.failed_rps > 0 ? (
            <b className="font-semibold text-vermilion-text">{perSecond(zone.failed_rps)} fail here</b>
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
      <button
        type="button"
        className={`grid size-6 place-items-center rounded border ${inWhatIf ? "border-vermilion bg-vermilion text-panel" : "border-transparent text-ink-soft hover:border-vermilion hover:text-vermilion-text"}`}
        aria-label={inWhatIf ? `Bring ${self.name} back` : `What if ${self.name} were lost?`}
        aria-pressed={inWhatIf}
        title={inWhatIf ? "Bring it back (x)" : `What if ${self.name} were lost? (x)`}
        onClick={() => onBreak(self)}
      >
        <X size={14} strokeWidth={2.4} />
      </button>
    </header>
  );
}

function Cell({ state, selection, onSelect, row, zone, isLost, folding }: PartProps & { row: RowPlace; zone: ColumnPlace; isLost: boolean }): ReactNode {
  const { group } = row;
  const cell = (zone.folded ? state.region_cells : state.cells).find((one) => one.group === group && one.zone === zone.name);
  if (!cell) return <span className="pl-1 text-line-strong">—</span>;
  const folded = zone.folded || row.compact || (group !== folding.expanded && isFolded(cell.targets, zone.width));
  const berths = folded ? [] : state.berths.filter((one) => one.group === group && one.zone === zone.name);
  if (folded || berths.length === 0) return <FoldedCell cell={cell} roomy={!row.compact} onSelect={() => onSelect({ kind: "group", name: group })} />;
  return (
    <>
      <span className="flex flex-wrap" style={{ maxWidth: berthsPerLine(zone.width) * BERTH }}>
        {berths.map((berth) => (
          <Berth
            key={berth.target}
            berth={berth}
            lost={isLost}
            selected={isSelected(selection, "berth", `${group}/${berth.target}`)}
            onSelect={() => onSelect({ kind: "berth", name: `${group}/${berth.target}` })}
          />
        ))}
      </span>
      <CellCaption cell={cell} />
    </>
  );
}

/** Very many targets in one line: `14/18 · 71 % · 2 unnoticed`, over a bar of the share in use. */
function FoldedCell({ cell, roomy, onSelect }: { cell: Schemas["CellState"]; roomy: boolean; onSelect: () => void }) {
  const share = cell.targets > 0 ? cell.in_use / cell.targets : 0;
  const wrong = cell.unnoticed > 0;
  const words = `${cell.in_use}/${cell.targets} · ${percent(cell.peak_utilisation)}${wrong ? ` · ${cell.unnoticed} unnoticed` : ""}`;
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
