import styled from "styled-components";
import type { Advice } from "../api/client";
import { Quiet } from "../parts/controls";
import { tokens } from "../theme";
import { Part, Sentences, stacked } from "./cases.styles";

const Table = styled.table`
  width: 100%;
  border-collapse: collapse;
  td { padding: 4px 12px 4px 0; border-top: 1px solid ${tokens.faint}; vertical-align: top; overflow-wrap: anywhere; }
  tr:first-child td { border-top: 0; }
  td:first-child { white-space: nowrap; width: 1%; }
  td:nth-child(2) { width: 34%; }
  ${stacked}
`;

/** Every source in the order in which technicians work: what it had, what it had not, and why. */
export function Looked({ advice }: { advice: Advice }) {
  return (
    <Part aria-label="Where we looked">
      <h2>Where we looked</h2>
      <Table>
        <tbody>
          {advice.looked.map((l, i) => (
            <tr key={`${l.source.kind}${i}`}>
              <td>{l.found ? "● found" : "○ nothing"}</td>
              <td>{l.name ?? `sources of the kind ${l.source.kind}`}</td>
              <td>
                <Quiet>{l.note}</Quiet>
              </td>
            </tr>
          ))}
        </tbody>
      </Table>
      {advice.notes.length > 0 && <Said head="To be known" all={advice.notes} />}
      {advice.next.length > 0 && <Said head="Still to be tried" all={advice.next.map((n) => n.text)} />}
    </Part>
  );
}

export function Said({ head, all }: { head: string; all: string[] }) {
  return (
    <>
      <Quiet as="div">{head}</Quiet>
      <Sentences>
        {all.map((s) => (
          <li key={s}>{s}</li>
        ))}
      </Sentences>
    </>
  );
}
