import styled from "styled-components";
import type { Schemas } from "../api/client";
import { tokens } from "../theme";
import { Quiet } from "./controls";

const Rail = styled.span`
  display: inline-block;
  width: 96px;
  height: 9px;
  margin-right: 8px;
  border: 1px solid ${tokens.ink};
  > span { display: block; height: 100%; background: ${tokens.ink}; }
`;

/** How much of a trace's blocks is still its own: the share drawn as it is, and what it means. */
export function Intact({ intact: { state, share } }: { intact: Schemas["Intact"] }) {
  return (
    <>
      <Rail aria-hidden>
        <span style={{ width: `${100 * share}%` }} />
      </Rail>
      {state.replaceAll("-", " ")} <Quiet>{meaning(state, share)}</Quiet>
    </>
  );
}

/** What a state means, for whoever has to decide whether it is worth bringing back. */
export function meaning(state: Schemas["IntactState"], share: number): string {
  const percent = `${(100 * share).toFixed(1)} % of its blocks`;
  switch (state) {
    case "whole":
      return "All of its blocks are known and nobody else’s.";
    case "if-in-one-piece":
      return "Where it begins is known, and all behind that is free: it is whole if it lies in one piece.";
    case "in-part":
      return share === 0
        ? "Nobody has its blocks now, but nothing is promised of them: what lies there is likely something else."
        : `${percent} are still its own; the rest was given to others.`;
    case "unread":
      return `The drive could not read some of it; ${percent} are left.`;
    case "wiped":
      return "There are only zeros where it was: the drive discarded it.";
    case "overwritten":
      return "All of its blocks were given to others; only this record is left.";
  }
}
