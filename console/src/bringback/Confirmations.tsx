import { Checkbox, CheckboxGroup } from "react-aria-components";
import styled from "styled-components";
import { tokens } from "../theme";
import type { Ask } from "./what";

const Confirmation = styled(Checkbox)`
  display: flex;
  align-items: baseline;
  gap: 8px;
  margin-top: 12px;
  cursor: pointer;
  &::before { content: ""; flex: none; width: 11px; height: 11px; border: 1px solid ${tokens.rule}; align-self: center; }
  &[data-selected]::before { background: ${tokens.ink}; border-color: ${tokens.ink}; }
  &[data-focus-visible] { outline: 2px solid ${tokens.ink}; outline-offset: 2px; }
`;

const means: Record<Ask, string> = {
  "keep-owners": "I know that the owners and set-id bits are right: keep them, although users can write where this comes from",
  "trust-claimed": "I know that this came from where its record claims: let it go there, although the record may be forged",
};

/** What only a technician can know, ticked where it is so. */
export function Confirmations({ asks, confirmed, setConfirmed }: { asks: Ask[]; confirmed: Ask[]; setConfirmed: (all: Ask[]) => void }) {
  return (
    <CheckboxGroup aria-label="To confirm" value={confirmed} onChange={(all) => setConfirmed(all as Ask[])}>
      {asks.map((a) => (
        <Confirmation key={a} value={a}>
          {means[a]}
        </Confirmation>
      ))}
    </CheckboxGroup>
  );
}
