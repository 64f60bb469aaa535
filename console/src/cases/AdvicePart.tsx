import styled from "styled-components";
import type { Advice, Case, Copy } from "../api/client";
import { InText, Key, Mono, Plain, Primary, Quiet } from "../parts/controls";
import { Row } from "../parts/layout";
import { PlaceText } from "../parts/PlaceText";
import { tokens } from "../theme";
import { absolute, bytes, counted } from "../when";
import { Part, stacked } from "./cases.styles";
import { FolderAdvicePart } from "./FolderAdvicePart";
import { Said } from "./Looked";

const Box = styled.div`
  border-left: 3px solid ${tokens.advice};
  padding: 4px 14px;
  margin: 6px 0;
`;

const Others = styled.table`
  width: 100%;
  border-collapse: collapse;
  margin-top: 4px;
  td { padding: 4px 12px 4px 0; border-top: 1px solid ${tokens.faint}; vertical-align: top; overflow-wrap: anywhere; }
  td:not(:last-child) { white-space: nowrap; width: 1%; }
  tr[data-chosen="true"] td:first-child { box-shadow: inset 3px 0 0 ${tokens.ink}; padding-left: 8px; }
  ${stacked}
`;

export interface Acts {
  bring: () => void;
  peek: () => void;
  compare: () => void;
  wrong: () => void;
  choose: (copy: Copy) => void;
  read: (copy: string) => void;
}

interface Props extends Acts {
  of: Case;
  advice: Advice;
  chosen: Copy | undefined;
}

/** The copy that is advised, why, what it costs, and the runners-up. */
export function AdvicePart({ of: k, advice, chosen, bring, peek, compare, wrong, choose, read }: Props) {
  const r = advice.recommended;
  const standing = r?.standing === true;
  const own = !r?.copy || chosen?.id === r.copy.id;
  const Bring = k.receipts.length > 0 ? Plain : Primary; // then the report is next
  return (
    <Part aria-label="Advice">
      <h2>Advice</h2>
      <Box>
        <p>{headline(advice)}</p>
        {r?.copy && !standing && r.to && <PlaceText place={r.to} />}
        <Said head={r ? "Because" : "Why nothing is recommended"} all={r ? r.because : advice.because} />
        {r && <Said head="What it costs" all={r.costs} />}
        {advice.found_at.length > 0 && <Said head="Where it stands now" all={advice.found_at.map((p) => `${p.machine}:${p.path}`)} />}
        <Row>
          {(r || chosen) && !(own && standing) && (
            <Bring onPress={bring}>
              Bring back {own ? "" : chosen?.id}
              <Key aria-hidden>b</Key>
            </Bring>
          )}
          {chosen && (
            <>
              <Plain onPress={peek}>
                Peek<Key aria-hidden>p</Key>
              </Plain>
              <Plain onPress={compare}>
                Compare with now<Key aria-hidden>c</Key>
              </Plain>
              <Plain onPress={wrong}>
                Not this one<Key aria-hidden>x</Key>
              </Plain>
            </>
          )}
        </Row>
      </Box>
      {k.wrong.length > 0 && <Quiet>Said not to be the one: {k.wrong.join(", ")}.</Quiet>}
      {advice.folder && <FolderAdvicePart place={advice.place} folder={advice.folder} chosen={chosen?.id} read={read} />}
      {advice.others.length > 0 && <RunnersUp advice={advice} chosen={chosen} choose={choose} />}
    </Part>
  );
}

function headline(a: Advice): string {
  const r = a.recommended;
  if (!r) return a.found_at.length > 0 ? "It is not lost." : "Nothing is recommended.";
  if (r.standing) return r.copy ? `It is there: copy ${r.copy.id}, ${r.copy.condition.state}.` : "It is there.";
  if (!r.copy) {
    const files = counted((a.folder?.certain ?? 0) + (a.folder?.assumed ?? 0), "file");
    return `Bring back ${files}${a.folder?.as_of ? ` as the folder stood on ${absolute(a.folder.as_of)}` : ""}.`;
  }
  if (r.captured_at) return `Bring back copy ${r.copy.id} whole from ${r.copy.source.kind}, as it was on ${absolute(r.captured_at)}, to`;
  const written = r.copy.written_at ? `, written ${absolute(r.copy.written_at)}` : "";
  return `Bring back copy ${r.copy.id} from ${r.copy.source.kind}, ${r.copy.condition.state}, ${bytes(r.copy.size)}${written}, to`;
}

function RunnersUp({ advice, chosen, choose }: { advice: Advice; chosen: Copy | undefined; choose: (copy: Copy) => void }) {
  const first = advice.recommended?.copy;
  return (
    <details open={advice.recommended === null || undefined}>
      <summary>{advice.others.length} others, and why not</summary>
      <Others aria-label="Others">
        <tbody>
          {first && (
            <tr data-chosen={chosen?.id === first.id}>
              <Cells copy={first} why="The advised one." choose={choose} />
            </tr>
          )}
          {advice.others.map((o) => (
            <tr key={o.copy.id} data-chosen={chosen?.id === o.copy.id}>
              <Cells copy={o.copy} why={o.why} choose={choose} />
            </tr>
          ))}
        </tbody>
      </Others>
    </details>
  );
}

function Cells({ copy, why, choose }: { copy: Copy; why: string; choose: (copy: Copy) => void }) {
  return (
    <>
      <td>
        <InText onPress={() => choose(copy)}>
          <Mono>{copy.id}</Mono>
        </InText>
      </td>
      <td>{copy.source.kind}</td>
      <td>{copy.condition.state}</td>
      <td>{bytes(copy.size)}</td>
      <td>
        <Quiet>{why}</Quiet>
      </td>
    </>
  );
}
