// The few controls that every page shares.
import { Button } from "react-aria-components";
import styled from "styled-components";
import { tokens } from "../theme";

/** The next thing to do: the accent, once a view. */
export const Primary = styled(Button)`
  border: 1px solid ${tokens.advice};
  border-radius: ${tokens.corner};
  background: ${tokens.advice};
  color: ${tokens.onAdvice};
  padding: 6px 14px;
  cursor: pointer;
  &[data-hovered] { text-decoration: underline; }
  &[data-disabled] { opacity: 0.55; cursor: default; }
  kbd { border-color: currentColor; color: inherit; }
`;

export const Plain = styled(Button)`
  border: 1px solid ${tokens.rule};
  border-radius: ${tokens.corner};
  background: transparent;
  color: ${tokens.ink};
  padding: 6px 14px;
  cursor: pointer;
  &[data-hovered] { background: ${tokens.faint}; }
  &[data-disabled] { color: ${tokens.quiet}; cursor: default; }
`;

/** A thing to do that stands in running text or in a table. */
export const InText = styled(Button)`
  border: 0;
  background: none;
  padding: 0;
  font: inherit;
  color: inherit;
  text-align: left;
  text-decoration: underline;
  text-underline-offset: 3px;
  cursor: pointer;
`;

export const Key = styled.kbd`
  font: 12px/16px ${tokens.mono};
  border: 1px solid ${tokens.rule};
  border-radius: ${tokens.corner};
  padding: 0 4px;
  margin-left: 8px;
  color: ${tokens.quiet};
`;

export const Quiet = styled.span`
  color: ${tokens.quiet};
`;

export const Care = styled.span`
  color: ${tokens.care};
`;

export const Sheet = styled.section`
  background: ${tokens.sheet};
  border: 1px solid ${tokens.faint};
  border-radius: ${tokens.corner};
  padding: 16px;
`;

export const Mono = styled.span`
  font-family: ${tokens.mono};
  font-size: 13px;
  font-variant-numeric: tabular-nums;
`;
