import { useVirtualizer } from "@tanstack/react-virtual";
import { useEffect, useRef } from "react";
import styled from "styled-components";
import type { Folder, FolderEntry, FolderRow } from "../api/client";
import { tokens } from "../theme";
import { dayLabels } from "./columns";

export const rowHeight = 30;
const stateWidth = 92;
const cell = 14;

const Scroll = styled.div`
  flex: 1;
  min-height: 160px;
  overflow: auto;
  border-block: 1px solid ${tokens.rule};
  outline-offset: 0;
`;

const Row = styled.div`
  position: absolute;
  inset-inline: 0;
  height: ${rowHeight}px;
  display: flex;
  align-items: center;
  border-bottom: 1px solid ${tokens.faint};
  cursor: default;
  &[aria-selected="true"] { background: ${tokens.ground}; box-shadow: inset 3px 0 0 ${tokens.ink}; }
`;

const Name = styled.span<{ $width: number }>`
  flex: none;
  width: ${({ $width }) => $width}px;
  padding-left: 10px;
  overflow: hidden;
  text-overflow: ellipsis;
  white-space: nowrap;
`;

const State = styled.span`
  width: ${stateWidth}px;
  padding-left: 12px;
  font-size: 13px;
  color: ${tokens.quiet};
  &[data-state="missing"], &[data-state="changed"], &[data-state="moved"] { color: ${tokens.ink}; font-weight: 600; }
`;

const Cells = styled.svg`
  flex: none;
  .ink { fill: ${tokens.ink}; }
  .dot { fill: ${tokens.rule}; }
  .line { stroke: ${tokens.ink}; stroke-width: 1.5; fill: none; }
  .column { fill: ${tokens.faint}; }
`;

export const nameWidthOf = (width: number) => (width < 600 ? 118 : 230);
export const fitOf = (width: number) => Math.max(8, Math.floor((width - nameWidthOf(width) - stateWidth - 24) / cell));

interface Props {
  rows: FolderRow[];
  folder: Folder;
  columns: [number, number];
  nameWidth: number; // pixels
  chosen: number; // moment
  row: number; // chosen
  choose: (row: number) => void;
  pick: (moment: number) => void;
  open: (row: number) => void;
}

/** Rows are entries, columns moments, the newest at the right; the chosen column is the folder as of that moment. */
export function Grid({ rows, folder, columns, nameWidth, chosen, row, choose, pick, open }: Props) {
  const scroll = useRef<HTMLDivElement>(null);
  // The compiler cannot follow what the virtualizer hands out; nothing here is memoised by it.
  // eslint-disable-next-line react-hooks/incompatible-library
  const virtual = useVirtualizer({ count: rows.length, getScrollElement: () => scroll.current, estimateSize: () => rowHeight, overscan: 8 });
  useEffect(() => {
    if (row >= 0 && row < rows.length) virtual.scrollToIndex(row);
  }, [row, rows.length, virtual]);
  const states = new Map(folder.entries.map((e) => [e.name, e]));
  return (
    <Scroll ref={scroll} role="grid" aria-label="Entries by moments" aria-rowcount={rows.length} tabIndex={0} id="folder-grid" aria-activedescendant={row >= 0 ? `folder-row-${row}` : undefined}>
      <div style={{ height: virtual.getTotalSize(), position: "relative" }}>
        {virtual.getVirtualItems().map((item) => {
          const r = rows[item.index];
          if (!r) return null;
          const entry = states.get(r.name);
          return (
            <Row
              key={r.name}
              id={`folder-row-${item.index}`}
              role="row"
              aria-rowindex={item.index + 1}
              aria-selected={item.index === row}
              style={{ transform: `translateY(${item.start}px)` }}
              onClick={() => choose(item.index)}
              onDoubleClick={() => open(item.index)}
            >
              <Name role="gridcell" title={r.name} $width={nameWidth}>
                {r.name}
                {r.type === "folder" && "/"}
              </Name>
              <Drawn row={r} columns={columns} chosen={chosen} pick={pick} />
              <State role="gridcell" data-state={entry?.state}>
                {entry ? stateWord(entry) : "not there"}
              </State>
            </Row>
          );
        })}
      </div>
    </Scroll>
  );
}

function stateWord(e: FolderEntry): string {
  if (e.state === "added") return "came later";
  return e.state;
}

function Drawn({ row, columns: [from, to], chosen, pick }: { row: FolderRow; columns: [number, number]; chosen: number; pick: (moment: number) => void }) {
  const shown = row.cells.slice(from, to);
  const middle = rowHeight / 2;
  return (
    <Cells width={(to - from) * cell + 2} height={rowHeight} aria-hidden="true" onClick={(e) => pick(from + Math.floor(e.nativeEvent.offsetX / cell))}>
      {chosen >= from && chosen < to && <rect x={(chosen - from) * cell} y="0" width={cell} height={rowHeight} className="column" />}
      {[...shown].map((c, i) => {
        const x = i * cell + cell / 2;
        if (c === "#") return <rect key={i} x={x - 4.5} y={middle - 4.5} width="9" height="9" className="ink" />;
        if (c === "-") return <circle key={i} cx={x} cy={middle} r="2" className="dot" />;
        if (c === ">") return <path key={i} d={`M${x - 5} ${middle}h9m-4 -4l4 4l-4 4`} className="line" />;
        return null;
      })}
    </Cells>
  );
}

/** The head of the grid: which moments its columns are, a tick for each and the date where a day begins. */
export function GridHead({ folder, columns: [from, to], nameWidth, chosen }: Pick<Props, "folder" | "columns" | "nameWidth" | "chosen">) {
  const width = (to - from) * cell + 2;
  const moments = folder.moments.slice(from, to);
  const labels = dayLabels(moments, Math.ceil(46 / cell));
  return (
    <Head width={nameWidth + width + stateWidth} height="34" aria-hidden="true">
      <g transform={`translate(${nameWidth} 0)`}>
        {moments.map((m, i) => {
          const x = i * cell + cell / 2;
          return (
            <g key={m.at}>
              <path d={`M${x} ${labels.has(i) ? 22 : 28}V34`} className="rule" />
              <text x={x} y="15" className="quiet">
                {labels.get(i)}
              </text>
              {from + i === chosen && <path d={`M${x - 5} 24h10l-5 8z`} className="ink" />}
            </g>
          );
        })}
      </g>
    </Head>
  );
}

const Head = styled.svg`
  display: block;
  flex: none;
  font: 12px ${tokens.text};
  .quiet { fill: ${tokens.quiet}; }
  .rule { stroke: ${tokens.rule}; }
  .ink { fill: ${tokens.ink}; }
`;
