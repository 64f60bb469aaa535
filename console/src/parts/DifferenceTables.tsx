import styled from "styled-components";
import type { Schemas } from "../api/client";
import { tokens } from "../theme";
import { bytes } from "../when";
import { Mono, Quiet } from "./controls";

const Table = styled.table`
  margin-top: 10px;
  width: 100%;
  border-collapse: collapse;
  font-size: 14px;
  th { text-align: left; font-weight: 400; color: ${tokens.quiet}; border-bottom: 1px solid ${tokens.rule}; padding: 3px 10px 3px 0; }
  td { vertical-align: top; border-bottom: 1px solid ${tokens.faint}; padding: 4px 10px 4px 0; overflow-wrap: anywhere; }
`;

/** The cells of two workbooks that differ. */
export function Cells({ cells }: { cells: Schemas["ComparedCell"][] }) {
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

/** The entries of two archives that differ. */
export function Entries({ entries }: { entries: Schemas["ComparedEntry"][] }) {
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
