import {
  Cell,
  Collection,
  Column,
  ResizableTableContainer,
  Row,
  Table,
  TableBody,
  TableHeader,
  TableLayout,
  TableLoadMoreItem,
  Virtualizer,
  type Selection,
} from "react-aria-components";
import { useMemo } from "react";
import styled from "styled-components";
import type { Folder, FolderEntry, FolderRow } from "../api/client";
import { Quiet } from "../parts/controls";
import { tokens } from "../theme";
import { Cells, cellsWidth, headHeight, Moments, rowHeight, stateWidth } from "./Cells";

const Scroll = styled(ResizableTableContainer)`
  flex: 1;
  min-height: 160px;
  overflow: auto;
  border-bottom: 1px solid ${tokens.rule};
`;

const Lines = styled(Table)`
  height: 100%;
  overflow: auto;
  outline: none;
  [role="columnheader"] {
    background: ${tokens.sheet};
    border-bottom: 1px solid ${tokens.rule};
    font-weight: 400;
    font-size: 13px;
    color: ${tokens.quiet};
    text-align: left;
    height: ${headHeight}px;
    line-height: ${headHeight - 10}px;
    svg { overflow: visible; }
  }
  [role="row"] { cursor: default; height: 100%; } /* of what the virtualizer lays it out in */
  [role="rowheader"], [role="gridcell"] {
    height: ${rowHeight}px;
    line-height: ${rowHeight - 1}px;
    border-bottom: 1px solid ${tokens.faint};
    white-space: nowrap;
    overflow: hidden;
    text-overflow: ellipsis;
  }
  [role="row"][data-selected] { background: ${tokens.ground}; box-shadow: inset 3px 0 0 ${tokens.ink}; }
  [role="row"][data-focus-visible] { outline-offset: -2px; }
`;

const Name = styled.span`
  padding-left: 10px;
`;

const State = styled.span`
  padding-left: 32px; /* the last day's label goes on beyond its moments */
  font-size: 13px;
  color: ${tokens.quiet};
  &[data-state="missing"], &[data-state="changed"], &[data-state="moved"] { color: ${tokens.ink}; font-weight: 600; }
`;

/** Whether more entries can be loaded, and how. */
export interface More {
  left: boolean;
  loading: boolean;
  load: () => void;
}

export interface GridProps {
  rows: FolderRow[];
  more: More;
  folder: Folder;
  columns: [number, number];
  nameWidth: number; // pixels
  chosen: number; // moment
  row: string | undefined; // chosen, by its name
  choose: (row: string) => void;
  pick: (moment: number) => void;
  open: (row: string) => void;
}

const layout = { rowHeight, headingHeight: headHeight };

/** Rows are entries, columns moments, the newest at the right; the chosen column is the folder as of that moment. */
export function Grid({ rows, more, folder, columns, nameWidth, chosen, row, choose, pick, open }: GridProps) {
  const entries = useMemo(() => new Map(folder.entries.map((e) => [e.name, e])), [folder.entries]);
  const select = (keys: Selection) => {
    const [name] = keys === "all" ? [] : [...keys];
    if (name !== undefined) choose(String(name));
  };
  return (
    <Scroll>
      <Virtualizer layout={TableLayout} layoutOptions={layout}>
        <Lines
          aria-label="Entries by moments"
          selectionMode="single"
          selectionBehavior="replace"
          disallowEmptySelection
          selectedKeys={row === undefined ? [] : [row]}
          onSelectionChange={select}
          onRowAction={(key) => open(String(key))}
        >
          <TableHeader>
            <Column isRowHeader width={nameWidth}>
              <Name>Entry</Name>
            </Column>
            <Column width={cellsWidth(columns)} textValue="Moments">
              <Moments {...{ folder, columns, chosen }} />
            </Column>
            <Column width={stateWidth}>
              <State>Against now</State>
            </Column>
          </TableHeader>
          <TableBody>
            <Collection items={rows} dependencies={[columns, chosen, entries, pick]}>
              {(r) => (
                <Row id={r.name} textValue={r.name}>
                  <Cell>
                    <Name title={r.name}>
                      {r.name}
                      {r.type === "folder" && "/"}
                    </Name>
                  </Cell>
                  <Cell>
                    <Cells row={r} {...{ columns, chosen, pick }} />
                  </Cell>
                  <Cell>
                    <State data-state={entries.get(r.name)?.state}>{stateWord(entries.get(r.name))}</State>
                  </Cell>
                </Row>
              )}
            </Collection>
            {more.left && (
              <TableLoadMoreItem onLoadMore={more.load} isLoading={more.loading}>
                <Quiet>More entries …</Quiet>
              </TableLoadMoreItem>
            )}
          </TableBody>
        </Lines>
      </Virtualizer>
    </Scroll>
  );
}

function stateWord(e: FolderEntry | undefined): string {
  if (!e) return "not there";
  return e.state === "added" ? "came later" : e.state;
}
