// How pages are laid out: what is worked on at the left or in the middle, what is read of it at the right, below each other where there is
// no room.
import styled from "styled-components";
import { tokens } from "../theme";

/** A page in columns, each of which scrolls by itself. */
export const Columns = styled.div<{ $widths: string }>`
  display: grid;
  grid-template-columns: ${({ $widths }) => $widths};
  height: 100%;
  @media (max-width: 900px) { grid-template-columns: minmax(0, 1fr); height: auto; }
`;

export const Column = styled.div`
  overflow: auto;
  min-width: 0;
  padding: 14px 20px;
`;

/** The column that is worked in. */
export const Desk = styled(Column)`
  background: ${tokens.sheet};
  border-right: 1px solid ${tokens.faint};
`;

/** The column in which is read what is chosen. */
export const Pane = styled.section`
  overflow: auto;
  min-width: 0;
  padding: 14px 20px;
`;

/** Things beside each other that go on below where there is no room. */
export const Row = styled.div`
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 6px 12px;
  margin: 6px 0;
`;
