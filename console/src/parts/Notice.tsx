import type { ReactNode } from "react";
import styled from "styled-components";
import type { Problem } from "../api/client";
import { tokens } from "../theme";
import { Plain, Quiet } from "./controls";

const Box = styled.div`
  border-left: 3px solid ${tokens.rule};
  padding: 8px 14px;
  margin: 12px 0;
  max-width: 68ch;
  ul { list-style: "– "; padding-left: 14px; }
`;

/** Something that is missing, and what to do about it. */
export function Notice({ title, children }: { title: string; children?: ReactNode }) {
  return (
    <Box role="status">
      <div>{title}</div>
      {children && <Quiet as="div">{children}</Quiet>}
    </Box>
  );
}

/** A failure in the service's own words, with what to do next. */
export function Failure({ problem, retry }: { problem: Problem; retry?: () => void }) {
  return (
    <Box role="alert">
      <div>{problem.message}</div>
      {problem.reasons.length > 0 && (
        <ul>
          {problem.reasons.map((r) => (
            <li key={r}>{r}</li>
          ))}
        </ul>
      )}
      {problem.next && <Quiet as="div">{problem.next}</Quiet>}
      {retry && <Plain onPress={retry}>Try again</Plain>}
    </Box>
  );
}
