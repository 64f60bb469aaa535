import { useState } from "react";
import { Link } from "react-router";
import styled from "styled-components";
import type { FolderAdvice, Place } from "../api/client";
import { InText, Plain, Quiet } from "../parts/controls";
import { folderLink } from "../places";
import { tokens } from "../theme";
import { bytes } from "../when";
import { stacked } from "./cases.styles";

const Table = styled.table`
  width: 100%;
  border-collapse: collapse;
  margin: 6px 0;
  td { padding: 3px 12px 3px 0; border-top: 1px solid ${tokens.faint}; vertical-align: top; overflow-wrap: anywhere; }
  td:first-child { white-space: nowrap; width: 1%; }
  td:nth-child(3) { white-space: nowrap; text-align: right; }
  tr[data-chosen="true"] td:first-child { box-shadow: inset 3px 0 0 ${tokens.ink}; padding-left: 8px; }
  ${stacked}
`;

const shown = 12;

// Ink means certainty, as in the drawn trail.
const marks = { certain: "■ certain", assumed: "▨ likely", missing: "□ missing", kept: "– stays", came: "+ came with it" };

interface Props {
  place: Place;
  folder: FolderAdvice;
  chosen: string | undefined;
  read: (copy: string) => void;
}

/** Each file of the folder with what becomes of it. */
export function FolderAdvicePart({ place, folder: f, chosen, read }: Props) {
  const [all, setAll] = useState(false);
  if (f.entries.length === 0) return null;
  const entries = all ? f.entries : f.entries.slice(0, shown);
  return (
    <>
      <Quiet as="p">
        {f.certain} certain, {f.assumed} likely, {f.missing} missing, {f.kept} stay, {f.came} came with it, {f.same} the same.{" "}
        {f.bytes > 0 ? `${bytes(f.bytes)} in all. ` : ""}
        {f.as_of && <Link to={`${folderLink(place)}&as_of=${encodeURIComponent(f.as_of)}`}>See the folder as it was then</Link>}
      </Quiet>
      <Table aria-label="Files of the folder">
        <tbody>
          {entries.map(({ copy, ...e }) => (
            <tr key={e.name} data-chosen={copy !== undefined && copy === chosen}>
              <td>{marks[e.part]}</td>
              <td>{copy ? <InText onPress={() => read(copy)}>{e.name}</InText> : e.name}</td>
              <td>{bytes(e.size)}</td>
              <td>
                <Quiet>{e.note}</Quiet>
              </td>
            </tr>
          ))}
        </tbody>
      </Table>
      {!all && f.entries.length > shown && <Plain onPress={() => setAll(true)}>Show all {f.entries.length}</Plain>}
      {f.cut && <Quiet>There are more than are shown; all of them are brought back.</Quiet>}
    </>
  );
}
