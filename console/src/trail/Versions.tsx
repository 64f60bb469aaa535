import { Cell, Column, Row, Table, TableBody, TableHeader, type Selection } from "react-aria-components";
import styled from "styled-components";
import type { Trail, TrailVersion } from "../api/client";
import { Care, Mono, Quiet } from "../parts/controls";
import { tokens } from "../theme";
import { absolute, bytes, relative } from "../when";
import { marksOf, samePlace } from "./layout";
import type { Verdict } from "./verdict";

const Rows = styled(Table)`
  width: 100%;
  border-collapse: collapse;
  font-size: 14px;
  line-height: 20px;
  outline: none;
  th {
    text-align: left;
    font-weight: 400;
    color: ${tokens.quiet};
    border-bottom: 1px solid ${tokens.rule};
    padding: 3px 12px 3px 0;
    white-space: nowrap;
  }
  td { vertical-align: top; padding: 5px 12px 5px 0; border-bottom: 1px solid ${tokens.faint}; }
  td:first-child, th:first-child { text-align: right; padding-left: 8px; }
  td:nth-child(5) { white-space: nowrap; }
  @media (max-width: 600px) {
    td:nth-child(3), th:nth-child(3) { display: none; }
    td, th { padding-right: 8px; }
    td { overflow-wrap: anywhere; }
  }
  tbody tr { cursor: pointer; }
  tr[data-selected] { background: ${tokens.ground}; box-shadow: inset 3px 0 0 ${tokens.ink}; }
  tr[data-focus-visible] { outline-offset: -2px; }
`;

const Copies = styled.ul`
  display: flex;
  flex-wrap: wrap;
  gap: 0 10px;
`;

const Advised = styled.div`
  color: ${tokens.advice};
`;

interface Props {
  trail: Trail;
  version: number;
  copy: string | undefined;
  marked: string[];
  loss: string | null;
  verdict: Verdict | undefined;
  choose: (version: number, copy?: string) => void;
}

/** The facts of the drawing as a table, newest first: arrows go from version to version. */
export function Versions({ trail, version, copy, marked, loss, verdict, choose }: Props) {
  const select = (keys: Selection) => {
    const [index] = keys === "all" ? [] : [...keys];
    if (index !== undefined) choose(Number(index));
  };
  return (
    <Rows
      aria-label="Versions"
      selectionMode="single"
      selectionBehavior="replace"
      disallowEmptySelection
      selectedKeys={[String(version)]}
      onSelectionChange={select}
    >
      <TableHeader>
        <Column>Nr</Column>
        <Column isRowHeader>Current from</Column>
        <Column>Last seen</Column>
        <Column>Until</Column>
        <Column>Size</Column>
        <Column>Copies</Column>
      </TableHeader>
      <TableBody>
        {trail.versions
          .map((v, i) => (
            <Row key={i} id={String(i)} textValue={`Version ${i + 1}`}>
              <Cell>{i + 1}</Cell>
              <Cell>
                {absolute(v.arrived_at)} <Quiet>· {relative(v.arrived_at, loss)}</Quiet>
                <Remarks trail={trail} v={v} />
                {verdict?.version === i && <Advised>◆ advised</Advised>}
                {verdict?.whyNot.has(i) && <Quiet as="div">{verdict.whyNot.get(i)}</Quiet>}
              </Cell>
              <Cell>{v.beside ? "" : absolute(v.last_seen_at)}</Cell>
              <Cell>{v.beside ? "beside" : v.superseded_at ? absolute(v.superseded_at) : "still there"}</Cell>
              <Cell>{bytes(v.size)}</Cell>
              <Cell>
                <Copies>
                  {marksOf(v).map((c) => (
                    <li key={c.id}>
                      <Mono>{c.id}</Mono> {trail.lanes[c.lane]?.source.kind}
                      {!c.readable && <Quiet> (record only)</Quiet>}
                      {c.id === copy && i === version && <Quiet> ← chosen</Quiet>}
                      {marked.includes(c.id) && <Quiet> ▾ marked</Quiet>}
                    </li>
                  ))}
                </Copies>
              </Cell>
            </Row>
          ))
          .reverse()}
      </TableBody>
    </Rows>
  );
}

function Remarks({ trail, v }: { trail: Trail; v: TrailVersion }) {
  const again = trail.versions.some(
    (w) => w !== v && w.content === v.content && w.arrived_at < v.arrived_at && samePlace(w.place, v.place),
  );
  return (
    <>
      {v.author && <Said v={v} />}
      {v.beside && <Quiet as="div">known of this place, but nothing shows that it stood here</Quiet>}
      {!samePlace(v.place, trail.place) && <Quiet as="div">as {v.place.path}</Quiet>}
      {again && <Quiet as="div">the same content as before came back</Quiet>}
      {v.hidden && <Care as="div">other content, though size and write time are the same</Care>}
      {v.doubt && <Care as="div">recorded write time not believed: {v.doubt}</Care>}
    </>
  );
}

/** Who made a version, and what they said of it. */
export const Said = ({ v }: { v: TrailVersion }) => (
  <div>
    by {v.author}
    {v.message && <Quiet>: {v.message}</Quiet>}
  </div>
);
