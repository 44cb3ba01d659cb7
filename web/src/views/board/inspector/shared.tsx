/** What the inspectors of all kinds share. */

import type { ReactNode } from "react";

import type { BoardState, PlanDocument, ProbeConsequence, Schemas } from "../../../api/client";
import { amount, clock, percent, perSecond } from "../../../kit/format";
import { Reading, type Tone } from "../../../kit/reading";
import { Copyable } from "../../../kit/copyable";
import type { AddressMap } from "../../../plan/addresses";
import { type ObjectKind } from "../../../plan/names";
import { ObjectSection } from "../../../form/object-section";
import type { Finding } from "../../../plan/judging";
import type { Looking } from "../../../plan/moment";
import type { Asked } from "../../../plan/queries";
import { type Fault, type Selection } from "../../../plan/selection";

export interface InspectorProps {
  planKey: string;
  asked: Asked;
  /** What each zone's loss leaves; undefined until that is worked out. */
  losses: Schemas["ZoneLoss"][] | undefined;
  /** Asks for the losses, where they are not worked out unasked. */
  onLosses?: (() => void) | undefined;
  document: PlanDocument;
  state: BoardState;
  looking: Looking;
  selection: Selection | undefined;
  lost: boolean;
  consequences: ProbeConsequence[];
  findings: Finding[];
  addresses: AddressMap;
  onBreak: (fault: Fault) => void;
  /** Somebody is about to break it. */
  onAbout: (fault: Fault) => void;
  /** What is broken in the what if that is looked at. */
  broken: Fault[];
  onSelect: (selection: Selection | undefined) => void;
  /** Folds the inspector away, where it covers the board. */
  onFold: (() => void) | undefined;
  /** Looks at a part as if it had been added only now. */
  onAsIfAdded: (selection: Selection) => void;
}

export interface Described {
  kind: string;
  title: string;
  subtitle?: ReactNode;
  content: ReactNode;
}

/** The heading of readings: which moment they are of. */
export function when(looking: Looking): string {
  if (looking.mode === "drill") return `At ${clock(looking.at)} of the drill`;
  if (looking.mode === "what-if" && looking.change === "added") return { at_once: "As soon as it is there", noticed: "When it is proven", settled: "When it has settled" }[looking.moment];
  if (looking.mode === "what-if") return { at_once: "At once after the loss", noticed: "When it is noticed", settled: "When it has settled" }[looking.moment];
  return "Now";
}

export function Rates({ rates }: { rates: { rps: number; served_rps: number; failed_rps: number } | undefined }) {
  if (!rates) return null;
  const share = rates.rps > 0 ? rates.failed_rps / rates.rps : 0;
  return (
    <>
      <Reading label="Offered" value={`${amount(rates.rps)} requests/s`} />
      <Reading label="Served" value={`${amount(rates.served_rps)} requests/s`} />
      <Reading
        label="Failing"
        tone={rates.failed_rps > 0 ? "vermilion" : "ink"}
        value={rates.failed_rps > 0 ? `${perSecond(rates.failed_rps)} · ${percent(share)}` : "none"}
      />
    </>
  );
}

/** The addresses of a machine, a balancer or a front, to be copied. */
export function Addresses({ addresses, of }: Pick<InspectorProps, "addresses"> & { of: string }) {
  const mine = addresses.get(of) ?? [];
  if (mine.length === 0) return null;
  return (
    <div className="flex items-baseline justify-between gap-3 py-0.5">
      <dt className="text-ink-soft">{mine.length === 1 ? "Address" : "Addresses"}</dt>
      <dd className="flex flex-col items-end">
        {mine.map((one) => (
          <Copyable key={one} text={one} />
        ))}
      </dd>
    </div>
  );
}

export interface SettingsProps extends InspectorProps {
  kind: ObjectKind;
  name: string;
  title?: string;
  inside?: { path: string; definition: string };
  leaveOut?: string[];
  /** What is selected once it has another name; by default the object. */
  renamed?: (to: string) => Selection;
}

/** The settings of an object, edited in place; after a rename the selection follows. */
export function Settings({ planKey, document, kind, name, title, inside, leaveOut, renamed, onSelect }: SettingsProps) {
  return (
    <ObjectSection
      key={`${kind}:${name}${inside?.path ?? ""}`}
      planKey={planKey}
      document={document}
      kind={kind}
      name={name}
      title={title}
      inside={inside}
      leaveOut={leaveOut}
      onRenamed={(to) => onSelect(renamed ? renamed(to) : { kind, name: to })}
      onDeleted={() => onSelect(undefined)}
    />
  );
}

export function loadTone(utilisation: number): Tone {
  if (utilisation > 1) return "vermilion";
  return utilisation >= 0.8 ? "ochre" : "ink";
}
