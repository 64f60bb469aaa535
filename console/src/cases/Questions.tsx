import { useQuery, useQueryClient, type UseMutationResult } from "@tanstack/react-query";
import { useState } from "react";
import { useNavigate } from "react-router";
import styled from "styled-components";
import type { Case, Loss, NewCase, Problem, Schemas } from "../api/client";
import { machines, understood } from "../api/queries";
import { Plain, Primary, Quiet } from "../parts/controls";
import { Row } from "../parts/layout";
import { Failure } from "../parts/Notice";
import { tokens } from "../theme";
import { Form } from "./cases.styles";
import { HintFields, hintsOf, typedHints } from "./HintFields";
import { SaidTime } from "./SaidTime";
import { losses } from "./words";

const Kinds = styled.fieldset`
  display: grid;
  gap: 2px;
  border: 0;
  margin: 0;
  padding: 0;
  legend { padding: 0 0 4px; }
  label { display: flex; gap: 8px; align-items: baseline; padding: 2px 0; }
  input { accent-color: ${tokens.ink}; }
`;

interface Answers {
  person?: string;
  machine?: string;
  where?: string;
  loss?: Loss;
  happened?: string;
  good?: string;
  noticed?: string;
  hints?: Schemas["Hints"];
}

interface QuestionsProps {
  first: Answers;
  verb: string;
  send: UseMutationResult<Case, Problem, NewCase>;
  leave: () => void;
}

/** The questions of a request for help, in the order in which they are asked on the phone. */
export function Questions({ first, verb, send: open, leave }: QuestionsProps) {
  const navigate = useNavigate();
  const queries = useQueryClient();
  const [loss, setLoss] = useState<Loss | "">(first.loss ?? "");
  const [person, setPerson] = useState(first.person ?? "");
  const [machine, setMachine] = useState(first.machine ?? "");
  const [where, setWhere] = useState(first.where ?? "");
  const [happened, setHappened] = useState(first.happened ?? "");
  const [good, setGood] = useState(first.good ?? "");
  const [noticed, setNoticed] = useState(first.noticed ?? "");
  const [hints, setHints] = useState(typedHints(first.hints));
  const { data: known } = useQuery(machines);
  const goodAt = useQuery(understood(good)).data?.at;
  const noticedAt = useQuery(understood(noticed)).data?.at;
  const opened = (k: Case) => {
    void queries.invalidateQueries({ queryKey: ["cases"] });
    void navigate(`/cases/${k.id}`);
  };
  const isPath = where.startsWith("/");
  const misunderstood = (good.trim() !== "" && !goodAt) || (noticed.trim() !== "" && !noticedAt);
  const ready = loss !== "" && (isPath ? machine !== "" : where.trim() !== "" || person !== "") && !misunderstood;
  const submit = (e: React.FormEvent) => {
    e.preventDefault();
    if (!ready || open.isPending) return;
    const body: NewCase = {
      loss,
      ...(person ? { person } : {}),
      ...(machine ? { machine } : {}),
      ...(isPath ? { place: { machine, path: where } } : where.trim() ? { words: where.trim() } : {}),
      ...(happened.trim() ? { happened: happened.trim() } : {}),
      ...(goodAt ? { good_at: goodAt } : {}),
      ...(noticedAt ? { noticed_at: noticedAt } : {}),
      hints: hintsOf(hints),
    };
    open.mutate(body, { onSuccess: opened });
  };
  const people = [...new Set(known?.machines.flatMap((m) => m.people.map((p) => p.name)) ?? [])].sort();
  return (
    <Form onSubmit={submit} aria-label={verb}>
      <label>
        Whose is it?
        <select autoFocus value={person} onChange={(e) => setPerson(e.target.value)}>
          <option value="">not known</option>
          {people.map((p) => (
            <option key={p}>{p}</option>
          ))}
        </select>
      </label>
      <label>
        On which machine?
        <select value={machine} onChange={(e) => setMachine(e.target.value)}>
          <option value="">not known</option>
          {known?.machines.map((m) => (
            <option key={m.name}>{m.name}</option>
          ))}
        </select>
      </label>
      <label>
        Where was it, or what was it called?
        <input value={where} placeholder="/home/…/Quote 127.odt, or words of its name" onChange={(e) => setWhere(e.target.value)} />
        <Quiet>{isPath ? (machine ? "A place." : "A place needs its machine.") : "Words are looked for in names."}</Quiet>
      </label>
      <Kinds>
        <legend>What happened?</legend>
        {losses.map((l) => (
          <label key={l.id}>
            <input type="radio" name="loss" checked={loss === l.id} onChange={() => setLoss(l.id)} />
            <span>
              {l.label} <Quiet>{l.hint}</Quiet>
            </span>
          </label>
        ))}
      </Kinds>
      <label>
        In the user’s words
        <textarea rows={2} value={happened} onChange={(e) => setHappened(e.target.value)} />
      </label>
      <SaidTime
        label="When was it last right?"
        placeholder="friday evening, yesterday 17:00, 3d ago; nothing if not known"
        said={good}
        setSaid={setGood}
      />
      <SaidTime label="When was the loss noticed?" placeholder="nothing: now" said={noticed} setSaid={setNoticed} />
      <HintFields typed={hints} change={(part) => setHints({ ...hints, ...part })} />
      {open.error && <Failure problem={open.error} />}
      <Row>
        <Primary type="submit" isDisabled={!ready || open.isPending}>
          {verb}
        </Primary>
        <Plain onPress={leave}>Not now</Plain>
        {!ready && <Quiet>{misunderstood ? "A time was not understood." : "What happened, and where or whose it is, must be said."}</Quiet>}
      </Row>
    </Form>
  );
}
