import styled from "styled-components";
import type { Trail } from "../api/client";
import { Quiet } from "../parts/controls";
import { absolute, relative } from "../when";

const Events = styled.ul`
  margin: 12px 0;
  font-size: 14px;
  line-height: 20px;
  li { padding: 3px 0; }
`;

/** What happened to the file, and what is to be said about what is known. */
export function Happened({ trail, loss }: { trail: Trail; loss: string | null }) {
  if (trail.events.length + trail.notes.length === 0) return null;
  return (
    <Events aria-label="What happened">
      {trail.events.map((e, i) => (
        <li key={i}>
          <Quiet>
            {e.after ? `between ${absolute(e.after)} and ` : ""}
            {absolute(e.at)} · {relative(e.at, loss)}
          </Quiet>
          <div>{e.text}</div>
        </li>
      ))}
      {trail.notes.map((n) => (
        <li key={n}>{n}</li>
      ))}
    </Events>
  );
}
