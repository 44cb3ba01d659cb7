/** What the parts of the board share. */

import { type CSSProperties } from "react";

import type { BoardState, PlanDocument, Schemas } from "../../api/client";
import { amount, perSecond } from "../../kit/format";
import type { AddressMap } from "../../plan/addresses";
import type { Severity } from "../../plan/judging";
import { type Fault, type Selection } from "../../plan/selection";
import { failsVisibly } from "../failing";
import { type BoardLayout, type Box, type ColumnPlace, type Folding } from "../geometry";

export interface BoardProps {
  document: PlanDocument;
  state: BoardState;
  selection: Selection | undefined;
  lost: Fault[];
  /** For each zone that is lost, how long ago, in seconds. */
  lostSince: ReadonlyMap<string, number>;
  onSelect: (selection: Selection) => void;
  /** Undefined where the board is only looked at. */
  onBreak: ((selection: Selection) => void) | undefined;
  /** Somebody is about to break it. */
  onAbout?: ((selection: Selection) => void) | undefined;
  folding: Folding;
  onFold: (region: string) => void;
  addresses: AddressMap;
  /** The worst that a review has found, by part (`kind:name`). */
  marks: ReadonlyMap<string, Severity>;
  /** The parts that a traced request passes. */
  lit: string[];
}

export interface PartProps extends BoardProps {
  layout: BoardLayout;
}

export function at(box: Box): CSSProperties {
  return { left: box.x, top: box.y, width: box.width, height: box.height };
}

export function isSelected(selection: Selection | undefined, kind: Selection["kind"], name: string): boolean {
  return selection?.kind === kind && selection.name === name;
}

/** A rate, and in vermilion beneath it what of it fails. */
export function Rate({ rates }: { rates: { rps: number; failed_rps: number } | undefined }) {
  if (!rates) return null;
  return (
    <span className="shrink-0 text-right leading-tight">
      <span className="block font-semibold text-north">{perSecond(rates.rps)}</span>
      {failsVisibly(rates) && <span className="block text-[11px] font-semibold text-vermilion-text">{amount(rates.failed_rps)} fail</span>}
    </span>
  );
}

/** The state of a column: of its zone, or of its region when that is folded. */
export function placeState(state: BoardState, box: ColumnPlace): Schemas["ZoneState"] | undefined {
  return (box.folded ? state.regions : state.zones).find((one) => one.name === box.name);
}
