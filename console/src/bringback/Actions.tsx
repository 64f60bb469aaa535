import styled from "styled-components";
import { tokens } from "../theme";

/** What can be done next, in sight however long the plan is. */
export const Actions = styled.div`
  display: flex;
  justify-content: flex-end;
  align-items: center;
  gap: 10px;
  position: sticky;
  bottom: -20px;
  margin-top: 8px;
  padding: 12px 0;
  background: ${tokens.sheet};
`;
