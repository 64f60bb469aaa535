import styled from "styled-components";
import type { Folder, FolderRow } from "../api/client";
import { tokens } from "../theme";
import { cellsSaid, dayLabels } from "./columns";

export const rowHeight = 30; // pixels, as the others
export const headHeight = 34;
export const stateWidth = 112;
const cell = 14;

export const nameWidthOf = (width: number) => (width < 600 ? 118 : 230);
export const fitOf = (width: number) => Math.max(8, Math.floor((width - nameWidthOf(width) - stateWidth - 24) / cell));
export const cellsWidth = ([from, to]: [number, number]) => (to - from) * cell + 2;

const Drawing = styled.svg`
  display: block;
  font: 12px ${tokens.text};
  .ink { fill: ${tokens.ink}; }
  .dot { fill: ${tokens.rule}; }
  .line { stroke: ${tokens.ink}; stroke-width: 1.5; fill: none; }
  .column { fill: ${tokens.faint}; }
  .quiet { fill: ${tokens.quiet}; }
  .rule { stroke: ${tokens.rule}; }
`;

interface CellsProps {
  row: FolderRow;
  columns: [number, number];
  chosen: number;
  pick: (moment: number) => void;
}

/** Which moments an entry was there at, and at which its content changed. */
export function Cells({ row, columns, chosen, pick }: CellsProps) {
  const [from, to] = columns;
  const shown = row.cells.slice(from, to);
  const middle = rowHeight / 2;
  return (
    <Drawing
      width={cellsWidth(columns)}
      height={rowHeight}
      role="img"
      aria-label={cellsSaid(row.cells)}
      onClick={(e) => pick(from + Math.floor(e.nativeEvent.offsetX / cell))}
    >
      {chosen >= from && chosen < to && <rect x={(chosen - from) * cell} y="0" width={cell} height={rowHeight} className="column" />}
      {[...shown].map((c, i) => {
        const x = i * cell + cell / 2;
        if (c === "#") return <rect key={i} x={x - 4.5} y={middle - 4.5} width="9" height="9" className="ink" />;
        if (c === "-") return <circle key={i} cx={x} cy={middle} r="2" className="dot" />;
        if (c === ">") return <path key={i} d={`M${x - 5} ${middle}h9m-4 -4l4 4l-4 4`} className="line" />;
        return null;
      })}
    </Drawing>
  );
}

/** Which moments the columns are: a tick for each and the date where a day begins. */
export function Moments({ folder, columns, chosen }: { folder: Folder; columns: [number, number]; chosen: number }) {
  const [from, to] = columns;
  const moments = folder.moments.slice(from, to);
  const labels = dayLabels(moments, Math.ceil(46 / cell));
  return (
    <Drawing width={cellsWidth(columns)} height={headHeight} role="img" aria-label="Moments, the newest at the right">
      {moments.map((m, i) => {
        const x = i * cell + cell / 2;
        return (
          <g key={m.at}>
            <path d={`M${x} ${labels.has(i) ? 22 : 28}V${headHeight}`} className="rule" />
            <text x={x} y="15" className="quiet">
              {labels.get(i)}
            </text>
            {from + i === chosen && <path d={`M${x - 5} 24h10l-5 8z`} className="ink" />}
          </g>
        );
      })}
    </Drawing>
  );
}
