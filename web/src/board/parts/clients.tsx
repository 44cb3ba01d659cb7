/** Client groups and names. */

import { perSecond } from "../../kit/format";
import { answersOf } from "../labels";
import { at, isSelected, Rate, type PartProps } from "./shared";

export function Clients({ document, state, layout, selection, onSelect }: PartProps) {
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

export function Names({ document, state, layout, selection, onSelect }: PartProps) {
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
