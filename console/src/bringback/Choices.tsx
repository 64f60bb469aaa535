import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Input, Label, Radio, RadioGroup, TextField } from "react-aria-components";
import styled from "styled-components";
import type { ClashRule } from "../api/client";
import { machines } from "../api/queries";
import { Plain, Quiet } from "../parts/controls";
import { tokens } from "../theme";

/** Where copies go: null is each to its own place. */
export type Where = { machine: string; path: string } | null;

const Group = styled(RadioGroup)`
  display: flex;
  flex-wrap: wrap;
  gap: 2px 22px;
  align-items: baseline;
  margin-top: 12px;
  > span:first-child { min-width: 170px; color: ${tokens.quiet}; }
`;

const Choice = styled(Radio)`
  display: inline-flex;
  align-items: baseline;
  gap: 7px;
  cursor: pointer;
  padding: 2px 4px;
  &::before { content: ""; width: 11px; height: 11px; border: 1px solid ${tokens.rule}; border-radius: 50%; align-self: center; }
  &[data-selected]::before { background: ${tokens.ink}; border-color: ${tokens.ink}; }
`;

const Elsewhere = styled.form`
  display: flex;
  flex-wrap: wrap;
  gap: 8px;
  align-items: center;
  margin: 6px 0 0 170px;
  select, input { border: 1px solid ${tokens.rule}; border-radius: ${tokens.corner}; padding: 5px 8px; background: ${tokens.ground}; }
  input { width: 320px; max-width: 60vw; }
`;

const hints: Record<ClashRule, string> = {
  "keep-both": "The copy gets a name that carries its date; what is there is not touched.",
  "set-aside": "What is there is kept safely first; undo puts it back.",
  skip: "The copy stays where it is.",
};

interface Props {
  clash: ClashRule;
  setClash: (rule: ClashRule) => void;
  setWhere: (where: Where) => void;
}

export function Choices({ clash, setClash, setWhere }: Props) {
  const [own, setOwn] = useState(true);
  const choose = (value: string) => {
    setOwn(value === "own");
    if (value === "own") setWhere(null);
  };
  return (
    <>
      <Group value={own ? "own" : "elsewhere"} onChange={choose}>
        <Label>Where to</Label>
        <Choice value="own">Each to its own place</Choice>
        <Choice value="elsewhere">Elsewhere</Choice>
      </Group>
      {!own && <ElsewhereForm setWhere={setWhere} />}
      <Group value={clash} onChange={(v) => setClash(v as ClashRule)}>
        <Label>If something is there</Label>
        <Choice value="keep-both">Keep both</Choice>
        <Choice value="set-aside">Set it aside</Choice>
        <Choice value="skip">Skip</Choice>
        <Quiet>{hints[clash]}</Quiet>
      </Group>
    </>
  );
}

function ElsewhereForm({ setWhere }: { setWhere: (where: Where) => void }) {
  const { data } = useQuery(machines);
  const [machine, setMachine] = useState("");
  const [path, setPath] = useState("");
  const chosen = machine || data?.machines[0]?.name || "";
  const apply = (event: React.FormEvent) => {
    event.preventDefault();
    if (chosen && path.startsWith("/")) setWhere({ machine: chosen, path: path.endsWith("/") ? path : `${path}/` });
  };
  return (
    <Elsewhere onSubmit={apply}>
      <select aria-label="Machine" value={chosen} onChange={(e) => setMachine(e.target.value)}>
        {data?.machines.map((m) => (
          <option key={m.name}>{m.name}</option>
        ))}
      </select>
      <TextField aria-label="Folder" value={path} onChange={setPath}>
        <Input placeholder="/home/… a folder, made where it is missing" />
      </TextField>
      <Plain type="submit" isDisabled={!path.startsWith("/")}>
        Plan it there
      </Plain>
    </Elsewhere>
  );
}
