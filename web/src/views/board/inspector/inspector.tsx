/** What is selected: a heading, and what its kind has to say. */

import { Link2Off, Undo2, X } from "lucide-react";
import { Button, IconButton } from "../../../kit/parts";
import { type ObjectKind } from "../../../plan/names";
import { lostName, partOf, type Selection } from "../../../plan/selection";
import { type Described, type InspectorProps } from "./shared";
import { describeZone } from "./zone";
import { describeGroup } from "./group";
import { describeBerth } from "./berth";
import { describeFront } from "./front";
import { describeBalancer } from "./balancer";
import { describeListener } from "./listener";
import { describeName } from "./name";
import { describeClient } from "./client";
import { describeObject } from "./object";
import { overview } from "./plan";

/** What is selected: its readings at this moment, its settings, and what they mean. */
export function Inspector(props: InspectorProps) {
  const { selection, onSelect } = props;
  const body = selection ? describe(props, selection) : overview(props);
  return (
    <aside className="flex h-full flex-col overflow-y-auto bg-panel px-4 pt-3 pb-6" aria-label="Inspector" data-testid="inspector">
      <header className="mb-4 flex items-start justify-between gap-2">
        <div className="min-w-0">
          <p className="text-[12px] text-ink-soft">{body.kind}</p>
          <h2 className="text-xl leading-tight font-semibold [overflow-wrap:anywhere]">{body.title}</h2>
          {body.subtitle && <p className="text-[12px] text-ink-soft">{body.subtitle}</p>}
        </div>
        <span className="flex shrink-0 gap-1.5">
          {selection && partOf(selection) && <BreakButton {...props} selection={selection} />}
          {selection && (
            <IconButton label="Close" onClick={() => onSelect(undefined)}>
              <X size={14} />
            </IconButton>
          )}
        </span>
      </header>
      {body.content}
    </aside>
  );
}

function BreakButton({ selection, lost, onBreak }: InspectorProps & { selection: Selection }) {
  return (
    <Button tone={lost ? "plain" : "danger"} onClick={() => onBreak(selection)} title={lost ? "Bring it back (x)" : `What if ${lostName(selection)} were lost? (x)`}>
      {lost ? <Undo2 size={13} aria-hidden="true" /> : <Link2Off size={13} aria-hidden="true" />}
      {lost ? "Bring back" : "Break"}
    </Button>
  );
}

/** How each kind of part of the board is described. */
const KINDS_OF_PARTS: Partial<Record<Selection["kind"], (props: InspectorProps, name: string) => Described>> = {
  zone: describeZone,
  group: describeGroup,
  berth: describeBerth,
  front: describeFront,
  balancer: describeBalancer,
  listener: describeListener,
  name: describeName,
  client: describeClient,
};

function describe(props: InspectorProps, selection: Selection): Described {
  const describer = KINDS_OF_PARTS[selection.kind];
  return describer ? describer(props, selection.name) : describeObject(props, selection.kind as ObjectKind, selection.name);
}
