/** Balancers, their listeners and their fronts. */

import type { Schemas } from "../../api/client";
import { perSecond } from "../../kit/format";
import { isOwn, ownInstance } from "../../plan/own";
import { formatSelection, type Selection } from "../../plan/selection";
import { type FrontPlace, type Placed } from "../geometry";
import { at, isSelected, type PartProps } from "./shared";

export function Balancers({ document, state, layout, selection, lost, onSelect, onBreak, addresses }: PartProps) {
  return (
    <>
      {layout.balancers.map((box) => (
        <BalancerBox key={box.name} box={box} document={document} state={state} selection={selection} onSelect={onSelect} addresses={addresses} />
      ))}
      {layout.fronts.map((box) => (
        <FrontChip key={box.name} box={box} state={state} selection={selection} lost={lost} onSelect={onSelect} onBreak={onBreak} addresses={addresses} />
      ))}
    </>
  );
}

function FrontChip({ box, state, selection, lost, onSelect, onBreak, addresses }: { box: FrontPlace } & Pick<PartProps, "state" | "selection" | "lost" | "onSelect" | "onBreak" | "addresses">) {
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
      aria-label={frontWords(box, front)}
      title={[frontWords(box, front), ...(addresses.get(box.name) ?? [])].join(" · ")}
      onClick={() => onSelect(self)}
      onDoubleClick={() => onBreak?.(self)}
    >
      {front.dead || broken ? "dead" : isOwn(box.balancer) ? "itself" : front.in_address ? "front" : front.stands_by ? "stands by" : "joining"}
    </button>
  );
}

function frontTone(front: Schemas["FrontState"] | undefined): string {
  if (front?.dead) return front.in_address ? "hatched border-vermilion text-vermilion-text bg-vermilion-fill" : "border-line-strong bg-lost text-lost-ink";
  if (front?.stands_by) return "border-line-strong bg-panel text-ink-soft font-normal";
  return front?.in_address === false ? "border-dashed border-north bg-panel text-north" : "border-north bg-north-fill text-north";
}

function frontWords(box: FrontPlace, front: Schemas["FrontState"]): string {
  const life = front.dead ? "dead" : "living";
  const address = front.in_address ? "in the address" : front.stands_by ? "stands by for the address" : "not in the address";
  return `front of ${box.balancer} in ${box.zone}: ${life}, ${address}, ${perSecond(front.rps)}${front.dead_rps > 0 ? `, ${perSecond(front.dead_rps)} meet it dead` : ""}`;
}

function BalancerBox({ box, document, state, selection, onSelect, addresses }: { box: Placed } & Pick<PartProps, "document" | "state" | "selection" | "onSelect" | "addresses">) {
  const balancer = document.balancers.find((one) => one.name === box.name);
  const rates = state.balancers.find((one) => one.name === box.name);
  const zones = Object.keys(balancer?.zones ?? {}).length;
  return (
    <div
      className={`absolute flex items-start justify-between gap-2 rounded border-[1.5px] px-3 pt-1 leading-tight ${isSelected(selection, "balancer", box.name) ? "border-north bg-north-fill" : balancer?.exposure === "internal" ? "border-dashed border-ink bg-paper" : "border-ink bg-panel"}`}
      style={at(box)}
    >
      <button type="button" className="min-w-0 text-left" data-part={`balancer:${box.name}`} title={[box.name, ...(addresses.get(box.name) ?? [])].join(" · ")} onClick={() => onSelect({ kind: "balancer", name: box.name })}>
        <span className="block truncate text-[13px] font-semibold">{ownInstance(box.name)}</span>
        <span className="block truncate text-[11px] text-ink-soft">
          {isOwn(box.name) ? "its own address" : `${balancer?.exposure} · layer ${balancer?.layer} · ${zones === 1 ? "1 front" : `${zones} fronts`}`} · {perSecond(rates?.rps ?? 0)}
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
