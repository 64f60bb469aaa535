// What the pages about cases share: a log that reads from top to bottom, ruled off section by section.
import styled, { css } from "styled-components";
import { Desk } from "../parts/layout";
import { tokens } from "../theme";

export const Log = styled(Desk)`
  padding-bottom: 40px;
`;

export const Part = styled.section`
  margin-top: 14px;
  padding-top: 10px;
  border-top: 1px solid ${tokens.rule};
  > h2 { margin-bottom: 4px; }
`;

export const Sentences = styled.ul`
  list-style: "– ";
  padding-left: 14px;
  max-width: 76ch;
  li { padding: 1px 0; overflow-wrap: anywhere; }
`;

export const Lines = styled.ul`
  li { display: grid; grid-template-columns: minmax(0, 1fr) auto; gap: 0 14px; padding: 6px 0; border-top: 1px solid ${tokens.faint}; }
  li:first-child { border-top: 0; }
  a { color: ${tokens.ink}; text-decoration-color: ${tokens.rule}; }
`;

export const Form = styled.form`
  display: grid;
  gap: 12px;
  max-width: 720px;
  label { display: grid; gap: 2px; }
  input:not([type="radio"]), textarea, select {
    border: 1px solid ${tokens.rule};
    border-radius: ${tokens.corner};
    padding: 6px 10px;
    background: ${tokens.ground};
    color: ${tokens.ink};
    font: inherit;
  }
`;

/** On a narrow page the last cell of a row, which is a sentence, goes below the others. */
export const stacked = css`
  @media (max-width: 600px) {
    tr { display: flex; flex-wrap: wrap; gap: 0 4px; padding: 4px 0; border-top: 1px solid ${tokens.faint}; }
    td, td:not(:last-child) { border-top: 0; width: auto; white-space: normal; }
    td:last-child { flex-basis: 100%; }
  }
`;
