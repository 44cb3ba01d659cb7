/** What is selected: a heading, and what its kind has to say. */

import { Check, ChevronDown, Link2Off, Undo2, X } from "lucide-react";
import { DropdownMenu } from "radix-ui";
import { memo } from "react";
import { useLingering } from "../../../kit/lingering";
import { Button, IconButton } from "../../../kit/parts";
import { useUnmoved } from "../../../kit/unmoved";
import { type ObjectKind } from "../../../plan/names";
import { formatSelection, lostName, partOf, type Fault, type Selection } from "../../../plan/selection";
import { otherFaults } from "./faults";
import { FindingsHere } from "./findings";
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
export const Inspector = memo(function Inspector(latest: InspectorProps) {
  const [props, pressed] = useUnmoved(latest);
  const { selection, onSelect } = props;
  const isAddition = props.looking.mode === "what-if" && props.looking.change === "added";
  const body = selection ? describe(props, selection) : overview(props);
  return (
    <aside className="flex h-full flex-col overflow-y-auto bg-panel px-4 pt-3 pb-6" aria-label="Inspector" data-testid="inspector" {...pressed}>
      <header className="mb-4 flex items-start justify-between gap-2">
        <div className="min-w-0">
          <p className="text-[12px] text-ink-soft">{body.kind}</p>
          <h2 className="text-xl leading-tight font-semibold [overflow-wrap:anywhere]">{body.title}</h2>
          {body.subtitle && <p className="text-[12px] text-ink-soft">{body.subtitle}</p>}
        </div>
        <span className="flex shrink-0 gap-1.5">
          {selection && !isAddition && partOf(selection, props.document.regions) && <BreakButton {...props} selection={selection} />}
          {selection && !isAddition && <OtherFaults {...props} selection={selection} />}
          {(selection ?? props.onFold) && (
            <IconButton
              label="Close"
              onClick={() => {
                props.onFold?.();
                onSelect(undefined);
              }}
            >
              <X size={14} />
            </IconButton>
          )}
        </span>
      </header>
      {selection && <FindingsHere planKey={props.planKey} document={props.document} findings={props.findings} selection={selection} />}
      {body.content}
    </aside>
  );
});

function BreakButton({ selection, lost, onBreak, onAbout }: InspectorProps & { selection: Selection }) {
  const about = useLingering(() => onAbout(selection));
  return (
    <Button {...about} tone={lost ? "plain" : "danger"} onClick={() => onBreak(selection)} title={lost ? "Bring it back (x)" : `What if ${lostName(selection)} were lost? (x)`}>
      {lost ? <Undo2 size={13} aria-hidden="true" /> : <Link2Off size={13} aria-hidden="true" />}
      {lost ? "Bring back" : "Break"}
    </Button>
  );
}

/** Ways of breaking what is selected that leave something of it: the process, the speed, a page, a link. */
function OtherFaults({ selection, document, broken, onBreak }: InspectorProps & { selection: Selection }) {
  const ways = otherFaults(document, selection);
  if (ways.length === 0) return null;
  const isBroken = (fault: Fault) => broken.some((one) => formatSelection(one) === formatSelection(fault));
  return (
    <DropdownMenu.Root>
      <DropdownMenu.Trigger asChild>
        <IconButton label="Break it in another way">
          <ChevronDown size={14} />
        </IconButton>
      </DropdownMenu.Trigger>
      <DropdownMenu.Portal>
        <DropdownMenu.Content align="end" className="z-40 min-w-52 rounded border border-line-strong bg-panel p-1 shadow-xl">
          {ways.map(({ words, fault }) => (
            <DropdownMenu.CheckboxItem key={words} checked={isBroken(fault)} className="flex min-h-7 cursor-pointer items-center gap-2 rounded px-2 data-[highlighted]:bg-north-fill" onSelect={() => onBreak(fault)}>
              <span className="w-3">{isBroken(fault) && <Check size={12} aria-hidden="true" />}</span>
              {words}
            </DropdownMenu.CheckboxItem>
          ))}
        </DropdownMenu.Content>
      </DropdownMenu.Portal>
    </DropdownMenu.Root>
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
