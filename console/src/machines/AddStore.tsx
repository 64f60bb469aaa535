import { useState } from "react";
import type { Schemas } from "../api/client";
import { Form } from "../cases/cases.styles";
import { Plain, Primary, Quiet } from "../parts/controls";
import { Row } from "../parts/layout";
import { addSource, Said, useSteps } from "./steps";

interface Props {
  machine: Schemas["Machine"];
  kinds: Schemas["Kind"][];
  leave: () => void;
}

const holds: Record<Schemas["Shape"], string> = {
  now: "the machine’s own files as they are now",
  points: "files as they were at points in time",
  versions: "of each file the contents that it had",
  kept: "files as they are now, their versions, and what was removed",
  removals: "what was removed",
  traces: "what programs left behind",
};

/** Adds a repository, an archive, a trash or any other store that lies on a machine. */
export function AddStore({ machine, kinds, leave }: Props) {
  const [kind, setKind] = useState("");
  const [at, setAt] = useState("");
  const [from, setFrom] = useState("");
  const [to, setTo] = useState("");
  const [options, setOptions] = useState<Record<string, string>>({});
  const steps = useSteps();
  const chosen = kinds.find((k) => k.name === kind);
  const ready = chosen !== undefined && at.trim() !== "" && (from === "") === (to === "");
  const submit = (e: React.FormEvent) => {
    e.preventDefault();
    if (!ready || steps.busy) return;
    const given = Object.fromEntries(Object.entries(options).filter(([, value]) => value !== ""));
    void steps.run([addSource({ machine: machine.name, kind, at: at.trim(), maps: from ? [`${from}=${to}`] : [], options: given })]);
  };
  return (
    <Form onSubmit={submit} aria-label="Add a store">
      <h2>Add a store of {machine.name}</h2>
      <label>
        What is it?
        <select autoFocus value={kind} onChange={(e) => setKind(e.target.value)}>
          <option value="">choose</option>
          {kinds
            .filter((k) => k.shape !== "kept")
            .map((k) => (
              <option key={k.name} value={k.name}>
                {k.name}: {holds[k.shape]}
              </option>
            ))}
        </select>
      </label>
      <label>
        Where does it lie?
        <input value={at} placeholder={`/home/…, or other-machine:/srv/…`} onChange={(e) => setAt(e.target.value)} />
        <Quiet>A path on {machine.name}, or one on another machine that is looked after.</Quiet>
      </label>
      <Row>
        <label>
          Which folder in it
          <input value={from} placeholder="/" onChange={(e) => setFrom(e.target.value)} />
        </label>
        <label>
          stands for which on {machine.name}?
          <input value={to} placeholder="/home/…, or nothing" onChange={(e) => setTo(e.target.value)} />
        </label>
      </Row>
      {chosen?.options.map((o) => (
        <label key={o.name}>
          {o.name}
          <input value={options[o.name] ?? ""} onChange={(e) => setOptions({ ...options, [o.name]: e.target.value })} />
          <Quiet>{o.says}</Quiet>
        </label>
      ))}
      <Row>
        <Primary type="submit" isDisabled={!ready || steps.busy}>
          Look at it and add it
        </Primary>
        <Plain onPress={leave}>Not now</Plain>
      </Row>
      <Said {...steps} done={steps.said.length > 0 && !steps.problem && !steps.busy} />
    </Form>
  );
}
