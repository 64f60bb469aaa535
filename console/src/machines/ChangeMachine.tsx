import { useState } from "react";
import { ask, client, type Schemas } from "../api/client";
import { Form } from "../cases/cases.styles";
import { Plain, Primary, Quiet } from "../parts/controls";
import { Row } from "../parts/layout";
import { Said, useSteps } from "./steps";

interface Props {
  machine: Schemas["Machine"];
  leave: () => void;
}

/** Changes how a machine is reached and for how long its trashes keep things. What is known of it stays. */
export function ChangeMachine({ machine, leave }: Props) {
  const [at, setAt] = useState(machine.at);
  const [password, setPassword] = useState("");
  const [days, setDays] = useState(String(machine.retention_days));
  const steps = useSteps();
  const changes: Schemas["MachineChanges"] = {};
  if (at.trim() !== machine.at) changes.at = at.trim();
  if (password !== "") changes.password = password;
  if (Number(days) !== machine.retention_days) changes.retention_days = Number(days);
  const ready = Object.keys(changes).length > 0 && at.trim() !== "" && /^\d+$/.test(days);
  const submit = (e: React.FormEvent) => {
    e.preventDefault();
    if (!ready || steps.busy) return;
    void steps
      .run([
        async (say) => {
          await ask(client.PATCH("/machines/{name}", { params: { path: { name: machine.name } }, body: changes }));
          say(changes.at || changes.password ? `${machine.name} was reached, and is the same machine. It is changed.` : "It is changed.");
        },
      ])
      .then((done) => done && setPassword(""));
  };
  return (
    <Form onSubmit={submit} aria-label={`Change ${machine.name}`}>
      <h2>Change {machine.name}</h2>
      <label>
        Where is it now?
        <input autoFocus value={at} onChange={(e) => setAt(e.target.value)} />
        <Quiet>It is tried before anything is changed. What is known of it stays: another machine is added, not changed to.</Quiet>
      </label>
      {at.includes("://") && (
        <label>
          Password or token
          <input type="password" autoComplete="off" value={password} onChange={(e) => setPassword(e.target.value)} />
          <Quiet>Empty: as before. At another host it is given anew.</Quiet>
        </label>
      )}
      <label>
        For how many days do its trashes keep things?
        <input inputMode="numeric" value={days} onChange={(e) => setDays(e.target.value)} />
        <Quiet>0: until somebody empties them.</Quiet>
      </label>
      <Row>
        <Primary type="submit" isDisabled={!ready || steps.busy}>
          Try it and change it
        </Primary>
        <Plain onPress={leave}>{steps.said.length > 0 ? "Done" : "Not now"}</Plain>
      </Row>
      <Said {...steps} done={false} />
    </Form>
  );
}
