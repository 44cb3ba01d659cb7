/** The board: zones across, the way of a request down. */

import { memo, useCallback, useMemo } from "react";
import { useRoving } from "../kit/roving";
import { useSize } from "../kit/use-size";
import { plainSelection, withOwnAddresses } from "../plan/own";
import type { Selection } from "../plan/selection";
import { layOut } from "./geometry";
import { LitPath } from "./lit-path";
import { Balancers } from "./parts/balancers";
import { Clients, Names } from "./parts/clients";
import { Marks } from "./parts/marks";
import { Ribbons } from "./parts/ribbons";
import { RowLabels } from "./parts/row-labels";
import type { BoardProps } from "./parts/shared";
import { StickyHeads, Zones } from "./parts/zones";

/** Below this width the board is scrolled instead (CSS pixels). */
const NARROWEST = 600;

/** The board: zones across, the way of a request down. Drawn anew only when something on it is another. */
export const Board = memo(function Board({ document, onSelect, ...given }: BoardProps) {
  const drawn = useMemo(() => withOwnAddresses(document, given.state), [document, given.state]);
  const select = useCallback((selection: Selection) => onSelect(plainSelection(selection)), [onSelect]);
  const props: BoardProps = { ...given, document: drawn, onSelect: select };
  const { frame, width, height } = useSize();
  const layout = useMemo(
    () => (width > 0 ? layOut(drawn, given.state, Math.max(width, NARROWEST), given.folding, height) : undefined),
    [drawn, given.state, width, given.folding, height],
  );
  return (
    <div ref={frame} {...useRoving()} className="relative h-full overflow-auto print:h-auto print:overflow-visible" data-testid="board">
      {layout && (
        <div className="relative" style={{ height: layout.height, minWidth: layout.width }}>
          <StickyHeads layout={layout} state={props.state} frame={frame} />
          <RowLabels {...props} layout={layout} />
          <Ribbons state={props.state} layout={layout} selection={props.selection} />
          <Clients {...props} layout={layout} />
          <Names {...props} layout={layout} />
          <Balancers {...props} layout={layout} />
          <Zones {...props} layout={layout} />
          <Marks {...props} layout={layout} />
          {props.lit.length > 0 && <LitPath parts={props.lit} frame={frame} layout={layout} />}
        </div>
      )}
    </div>
  );
});
