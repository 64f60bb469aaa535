import { useCallback, useState } from "react";
import { Button } from "react-aria-components";
import styled from "styled-components";
import { BringBackDialog } from "../bringback/BringBackDialog";
import type { Copy } from "../api/client";
import { useSelection } from "../selection";
import { tokens } from "../theme";
import { useKey, useTraysTurn } from "../useKeys";
import { Allowed } from "../useRight";
import { counted } from "../when";
import { Key, Plain, Primary, Quiet } from "./controls";

const Edge = styled.aside`
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 8px 12px;
  padding: 8px 20px;
  border-top: 2px solid ${tokens.ink};
  background: ${tokens.sheet};
  max-height: 30vh;
  overflow: auto;
`;

const Item = styled.li`
  display: inline-flex;
  align-items: center;
  border: 1px solid ${tokens.faint};
  border-radius: ${tokens.corner};
  padding: 0 2px 0 8px;
  max-width: 260px;
  span { overflow: hidden; text-overflow: ellipsis; white-space: nowrap; }
  button { border: 0; background: none; cursor: pointer; padding: 2px 6px; color: ${tokens.quiet}; }
`;

const Items = styled.ul`
  display: flex;
  flex-wrap: wrap;
  gap: 6px;
  flex: 1;
`;

const shown = 4;

/** What is selected, at the bottom edge of every page, with the one thing to do with it. */
export function Tray() {
  const { copies, drop, clear } = useSelection();
  const [chosen, setChosen] = useState<Copy[]>(); // what the open dialogue is about; the selection ends before it does
  const open = useCallback(() => setChosen(copies), [copies]);
  const turn = useTraysTurn();
  useKey("b", open, copies.length > 0 && !chosen && turn, "tray");
  return (
    <>
      {copies.length > 0 && <Selected {...{ copies, drop, clear, open, turn }} />}
      {chosen && <BringBackDialog what={{ copies: chosen }} close={() => setChosen(undefined)} done={clear} />}
    </>
  );
}

interface SelectedProps {
  copies: Copy[];
  drop: (id: string) => void;
  clear: () => void;
  open: () => void;
  turn: boolean; // its key is its own
}

function Selected({ copies, drop, clear, open, turn }: SelectedProps) {
  return (
    <Edge aria-label="Selected copies">
      <span>{counted(copies.length, "copy", "copies")} selected</span>
      <Items>
        {copies.slice(0, shown).map((c) => (
          <Item key={c.id}>
            <span>{c.name}</span>
            <Button aria-label={`Leave out ${c.name}`} onPress={() => drop(c.id)}>
              ×
            </Button>
          </Item>
        ))}
        {copies.length > shown && <Quiet>and {copies.length - shown} more</Quiet>}
      </Items>
      <Plain onPress={clear}>Clear</Plain>
      <Allowed right="bring-back">
        <Primary onPress={open}>Bring back …{turn && <Key>b</Key>}</Primary>
      </Allowed>
    </Edge>
  );
}
