import styled from "styled-components";
import type { Schemas } from "../api/client";
import { tokens } from "../theme";
import { Plain, Quiet } from "./controls";

const Blocks = styled.ol`
  margin-top: 10px;
  font: 13px/19px ${tokens.mono};
`;

const Block = styled.li`
  border-top: 1px solid ${tokens.faint};
  padding: 4px 0;
  overflow-wrap: anywhere;
  white-space: pre-wrap;
`;

const Side = styled.div`
  display: grid;
  grid-template-columns: 58px minmax(0, 1fr) auto;
  gap: 8px;
  > span:first-child { color: ${tokens.quiet}; font-size: 12px; }
  mark { background: none; color: inherit; font-weight: 700; text-decoration: underline 2px; text-underline-offset: 3px; }
  button { padding: 0 6px; font-size: 12px; line-height: 18px; align-self: start; }
`;

/** The passages of two texts, what is alike folded; what only the first has can be copied out. */
export function Passages({ blocks }: { blocks: Schemas["ComparedBlock"][] }) {
  return (
    <Blocks aria-label="Differences">
      {blocks.map((b, i) => (
        <Passage key={i} block={b} />
      ))}
    </Blocks>
  );
}

function Passage({ block: b }: { block: Schemas["ComparedBlock"] }) {
  switch (b.change) {
    case "folded":
      return (
        <Block>
          <Quiet>⋮ {b.count} alike</Quiet>
        </Block>
      );
    case "same":
      return (
        <Block>
          <Side>
            <span>{b.left_number}</span>
            <span>{b.left}</span>
          </Side>
        </Block>
      );
  }
  return (
    <Block>
      {b.left !== undefined && (
        <Side>
          <span>first {b.left_number}</span>
          <span>{b.left_words ? <Words words={b.left_words} /> : <mark>{b.left}</mark>}</span>
          <Plain aria-label={`Copy out passage ${b.left_number}`} onPress={() => void navigator.clipboard.writeText(b.left ?? "")}>
            Copy out
          </Plain>
        </Side>
      )}
      {b.right !== undefined && (
        <Side>
          <span>second {b.right_number}</span>
          <span>{b.right_words ? <Words words={b.right_words} /> : <mark>{b.right}</mark>}</span>
        </Side>
      )}
    </Block>
  );
}

function Words({ words }: { words: Schemas["ComparedWord"][] }) {
  return words.map((w, i) => (w.marked ? <mark key={i}>{w.text}</mark> : <span key={i}>{w.text}</span>));
}
