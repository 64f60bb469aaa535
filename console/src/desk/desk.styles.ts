// What the sheets of the Desk share: a head with where all of it is found, and a list of some of it.
import styled from "styled-components";
import { tokens } from "../theme";

export const Head = styled.div`
  display: flex;
  justify-content: space-between;
  gap: 12px;
  a { color: ${tokens.ink}; }
`;

export const List = styled.ul`
  margin-top: 8px;
  li { display: flex; flex-wrap: wrap; justify-content: space-between; gap: 0 14px; padding: 6px 0; border-top: 1px solid ${tokens.faint}; }
  li > span:first-child { overflow-wrap: anywhere; }
  a { color: ${tokens.ink}; text-decoration-color: ${tokens.rule}; }
  @media (max-width: 600px) { li { flex-direction: column; } }
`;

/** How many lines a sheet has; all of them are a link away. */
export const limit = 8;
