import { useQuery } from "@tanstack/react-query";
import styled from "styled-components";
import type { Place, Comparison, Schemas } from "../api/client";
import { comparison } from "../api/queries";
import { withKey } from "../api/key";
import { tokens } from "../theme";
import { absolute, bytes } from "../when";
import { Mono, Plain, Quiet } from "./controls";
import { Failure, Notice } from "./Notice";

const Blocks = styled.ol`
  margin-top: 10px;
  font: 13px/19px ${tokens.mono};
`;

const Block = styled.li`
  border-top: 1px solid ${tokens.faint};
  padding: 4px 0;
  overflow-wrap: anywhere;
  white-space: pre-wrap;
`;

const Side = styled.div`
  display: grid;
  grid-template-columns: 58px minmax(0, 1fr) auto;
  gap: 8px;
  > span:first-child { color: ${tokens.quiet}; font-size: 12px; }
  mark { background: none; color: inherit; font-weight: 700; text-decoration: underline; text-decoration-thickness: 2px; text-underline-offset: 3px; }
  button { padding: 0 6px; font-size: 12px; line-height: 18px; align-self: start; }
`;

const Table = styled.table`
  margin-top: 10px;
  width: 100%;
  border-collapse: collapse;
  font-size: 14px;
  th { text-align: left; font-weight: 400; color: ${tokens.quiet}; border-bottom: 1px solid ${tokens.rule}; padding: 3px 10px 3px 0; }
  td { vertical-align: top; border-bottom: 1px solid ${tokens.faint}; padding: 4px 10px 4px 0; overflow-wrap: anywhere; }
`;

/** How two copies differ; right is a copy's id, or "now", where at names another place than the copy's own. The left one is the older, whose passages can be copied out. */
export function Difference({ left, right, at }: { left: string; right: string; at?: Place | undefined }) {
  const { data, error, isPending, refetch } = useQuery(comparison(left, right, at));
  if (isPending) return <Quiet>Comparing …</Quiet>;
  if (error) return <Failure problem={error} retry={() => void refetch()} />;
  return (
    <div>
      <p>
        <Quiet>first</Quiet> <Mono>{data.left.id}</Mono> {data.left.written_at && absolute(data.left.written_at)}
        <br />
        <Quiet>second</Quiet> {data.right ? <Mono>{data.right.id}</Mono> : "what stands there now"} {data.right?.written_at && absolute(data.right.written_at)}
      </p>
      <Notice title={data.summary}>{data.notes.join(" ")}</Notice>
      {data.blocks.length > 0 && (
        <Blocks aria-label="Differences">
          {data.blocks.map((b, i) => (
            <BlockRow key={i} block={b} />
          ))}
        </Blocks>
      )}
      {data.cells.length > 0 && <Cells cells={data.cells} />}
      {data.entries.length > 0 && <Entries entries={data.entries} />}
      {data.picture && <Pictures d={data} picture={data.picture} />}
      {data.cut && <Quiet>There is more than is shown.</Quiet>}
    </div>
  );
}

function BlockRow({ block: b }: { block: Schemas["ComparedBlock"] }) {
  switch (b.change) {
    case "folded":
      return (
        <Block>
          <Quiet>⋮ {b.count} alike</Quiet>
        </Block>
      );
    case "same":
      return (
        <Block>
          <Side>
            <span>{b.left_number}</span>
            <span>{b.left}</span>
          </Side>
        </Block>
      );
  }
  return (
    <Block>
      {b.left !== undefined && (
        <Side>
          <span>first {b.left_number}</span>
          <span>{b.left_words ? <Words words={b.left_words} /> : <mark>{b.left}</mark>}</span>
          <Plain aria-label={`Copy out passage ${b.left_number}`} onPress={() => void navigator.clipboard.writeText(b.left ?? "")}>
            Copy out
          </Plain>
        </Side>
      )}
      {b.right !== undefined && (
        <Side>
          <span>second {b.right_number}</span>
          <span>{b.right_words ? <Words words={b.right_words} /> : <mark>{b.right}</mark>}</span>
        </Side>
      )}
    </Block>
  );
}

function Words({ words }: { words: Schemas["ComparedWord"][] }) {
  return words.map((w, i) => (w.marked ? <mark key={i}>{w.text}</mark> : <span key={i}>{w.text}</span>));
}

function Cells({ cells }: { cells: Schemas["ComparedCell"][] }) {
  return (
    <Table aria-label="Cells that differ">
      <thead>
        <tr>
          <th>Sheet</th>
          <th>Cell</th>
          <th>First</th>
          <th>Second</th>
        </tr>
      </thead>
      <tbody>
        {cells.map((c) => (
          <tr key={`${c.sheet} ${c.address}`}>
            <td>{c.sheet}</td>
            <td>
              <Mono>{c.address}</Mono>
            </td>
            <td>{c.left || <Quiet>empty</Quiet>}</td>
            <td>{c.right || <Quiet>empty</Quiet>}</td>
          </tr>
        ))}
      </tbody>
    </Table>
  );
}

const changes = { added: "only in the second", removed: "only in the first", changed: "differs" };

function Entries({ entries }: { entries: Schemas["ComparedEntry"][] }) {
  return (
    <Table aria-label="Entries that differ">
      <tbody>
        {entries.map((e) => (
          <tr key={e.path}>
            <td>{e.path}</td>
            <td>{changes[e.change]}</td>
            <td>
              {bytes(e.left)} / {bytes(e.right)}
            </td>
          </tr>
        ))}
      </tbody>
    </Table>
  );
}

const Frame = styled.figure`
  position: relative;
  margin: 10px 0;
  img { display: block; width: 100%; border: 1px solid ${tokens.faint}; background: #fff; }
  svg { position: absolute; inset: 0; width: 100%; }
  rect { fill: none; stroke: ${tokens.care}; stroke-width: 2; vector-effect: non-scaling-stroke; }
  figcaption { color: ${tokens.quiet}; font-size: 13px; }
`;

function Pictures({ d, picture: p }: { d: Comparison; picture: Schemas["ComparedPicture"] }) {
  const sides = [
    { id: d.left.id, name: "first", w: p.left_width, h: p.left_height },
    { id: d.right?.id, name: "second", w: p.right_width, h: p.right_height },
  ];
  return sides.map((s) =>
    s.id ? (
      <Frame key={s.name}>
        <img src={withKey(`/api/v1/copies/${s.id}/picture`)} alt={`The ${s.name} picture`} />
        <svg viewBox={`0 0 ${s.w} ${s.h}`} aria-hidden="true">
          {p.regions.map((r) => (
            <rect key={`${r.x} ${r.y}`} x={r.x} y={r.y} width={r.width} height={r.height} />
          ))}
        </svg>
        <figcaption>
          {s.name}, {s.w} × {s.h} pixels
        </figcaption>
      </Frame>
    ) : null,
  );
}
