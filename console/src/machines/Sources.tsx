import { useState } from "react";
import styled from "styled-components";
import type { Schemas } from "../api/client";
import { stacked } from "../cases/cases.styles";
import { Care, InText, Mono, Quiet } from "../parts/controls";
import { Row } from "../parts/layout";
import { tokens } from "../theme";
import { useRight } from "../useRight";
import { absolute } from "../when";
import { ChangeSource } from "./ChangeSource";
import { Unlock } from "./Unlock";

const Table = styled.table`
  width: 100%;
  border-collapse: collapse;
  margin: 4px 0 10px;
  th { text-align: left; font-weight: 400; color: ${tokens.quiet}; border-bottom: 1px solid ${tokens.rule}; padding: 3px 12px 3px 0; }
  td { vertical-align: top; padding: 5px 12px 5px 0; border-bottom: 1px solid ${tokens.faint}; overflow-wrap: anywhere; }
  td:nth-child(2), td:nth-child(4), td:nth-child(5) { white-space: nowrap; }
  td:nth-child(4), th:nth-child(4) { text-align: right; }
  ${stacked}
`;

/** What copies of a machine are read from, with what its last survey had to say. */
export function Sources({ sources, kinds }: { sources: Schemas["Source"][]; kinds: Schemas["Kind"][] }) {
  const [open, setOpen] = useState<{ id: string; to: "unlock" | "change" }>();
  const may = useRight("arrange");
  const kindOf = (s: Schemas["Source"]) => kinds.find((k) => k.name === s.kind);
  if (sources.length === 0) return <Quiet as="p">None yet.</Quiet>;
  return (
    <Table>
      <thead>
        <tr>
          <th>Source</th>
          <th>Kind</th>
          <th>Where</th>
          <th>Copies</th>
          <th>Surveyed</th>
        </tr>
      </thead>
      <tbody>
        {sources.map((s) => (
          <tr key={s.id}>
            <td>
              <Mono>{s.id}</Mono>
            </td>
            <td>{s.kind}</td>
            <td>
              {s.at_machine === s.machine ? s.at : `${s.at_machine}:${s.at}`}
              {s.maps?.map((m) => (
                <Quiet as="div" key={m}>
                  stands for {m.split("=")[1]}
                </Quiet>
              ))}
              {s.trouble && <Care as="div">{s.trouble}</Care>}
              {s.notes?.slice(0, 3).map((n) => (
                <Quiet as="div" key={n}>
                  {n}
                </Quiet>
              ))}
              {may && open?.id !== s.id && (
                <Row>
                  {kindOf(s)?.lockable && (
                    <InText onPress={() => setOpen({ id: s.id, to: "unlock" })}>Give the password of {s.id} …</InText>
                  )}
                  <InText onPress={() => setOpen({ id: s.id, to: "change" })}>Change {s.id} …</InText>
                </Row>
              )}
              {open?.id === s.id && open.to === "unlock" && <Unlock what={s.id} label={`Password of ${s.id}`} />}
              {open?.id === s.id && open.to === "change" && <ChangeSource source={s} kind={kindOf(s)} leave={() => setOpen(undefined)} />}
            </td>
            <td>{s.copies}</td>
            <td>{s.surveyed_at ? absolute(s.surveyed_at) : "not yet"}</td>
          </tr>
        ))}
      </tbody>
    </Table>
  );
}
