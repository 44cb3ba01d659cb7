/** What stands at the left of each row. */

import { amount, perSecond } from "../../kit/format";
import { LABELS } from "../geometry";
import { ownInstance } from "../../plan/own";
import { usedIn } from "../labels";
import { isSelected, type PartProps } from "./shared";

export function RowLabels({ document, state, layout, selection, onSelect }: PartProps) {
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
        const spills = state.groups.find((one) => one.name === row.group)?.room?.spills_rps ?? 0;
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
            <span className="block truncate text-[13px] font-semibold">{ownInstance(row.group)}</span>
            {!row.compact && (
              <>
                <span className="block truncate text-[11px] text-ink-soft">{usedIn(document, row.group)}</span>
                {spills > 0.05 ? (
                  <span className="block truncate text-[11px] font-semibold text-ochre-text">full: {perSecond(spills)} go on</span>
                ) : (
                  <span className="block truncate text-[11px] text-ink-soft">{group?.balance.replace("-", " ")}</span>
                )}
              </>
            )}
          </button>
        );
      })}
    </>
  );
}
