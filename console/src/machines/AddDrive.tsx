import { useState } from "react";
import { ask, client, type Schemas } from "../api/client";
import { Form } from "../cases/cases.styles";
import { Plain, Primary, Quiet } from "../parts/controls";
import { Row } from "../parts/layout";
import { addSource, Said, useSteps } from "./steps";

interface Props {
  machine: Schemas["Machine"];
  kinds: Schemas["Kind"][];
  leave: () => void;
}

/** The address of a drive as the service takes it: the user before the host, the certificate behind. */
function address(typed: string, user: string, certificate: string): string {
  const plain = typed
    .trim()
    .replace(/^https:/, "davs:")
    .replace(/^http:/, "dav:");
  const at = new URL(plain.includes("://") ? plain : `davs://${plain}`);
  const query = certificate.trim() ? `?certificate=${encodeURIComponent(certificate.trim())}` : "";
  return `${at.protocol}//${encodeURIComponent(user)}@${at.host}${at.pathname}${query}`;
}

/** Adds a cloud drive: it is reached, signed in to, looked at and surveyed, one after the other. */
export function AddDrive({ machine, kinds, leave }: Props) {
  const [name, setName] = useState("");
  const [typed, setTyped] = useState("");
  const [user, setUser] = useState("");
  const [password, setPassword] = useState("");
  const [certificate, setCertificate] = useState("");
  const [folder, setFolder] = useState("");
  const [known, setKnown] = useState(false); // the drive was added before a later step failed
  const steps = useSteps();
  const kind = kinds.find((k) => k.shape === "kept")?.name;
  const ready = kind !== undefined && name !== "" && typed !== "" && user !== "" && password !== "" && folder.startsWith("/");
  const submit = (e: React.FormEvent) => {
    e.preventDefault();
    if (!ready || steps.busy) return;
    const reach = async (say: (text: string) => void) => {
      if (known) return;
      await ask(client.POST("/machines", { body: { name, at: address(typed, user, certificate), password, with_suggested: false } }));
      setKnown(true);
      say(`Reached, its certificate is in order, and ${user} is signed in.`);
    };
    void steps.run([reach, addSource({ machine: machine.name, kind, at: `${name}:/`, maps: [`/=${folder}`] })]);
  };
  return (
    <Form onSubmit={submit} aria-label="Add a cloud drive">
      <h2>Add a cloud drive of {machine.name}</h2>
      <label>
        What is it to be called?
        <input autoFocus value={name} placeholder="office-drive" onChange={(e) => setName(e.target.value)} />
      </label>
      <label>
        Its address
        <input value={typed} placeholder="https://drive.example/files" onChange={(e) => setTyped(e.target.value)} />
      </label>
      <Row>
        <label>
          Name to sign in with
          <input value={user} autoComplete="off" onChange={(e) => setUser(e.target.value)} />
        </label>
        <label>
          Password or token
          <input type="password" autoComplete="off" value={password} onChange={(e) => setPassword(e.target.value)} />
        </label>
      </Row>
      <label>
        Its certificate, where no authority vouches for it
        <input value={certificate} placeholder="sha256:…" onChange={(e) => setCertificate(e.target.value)} />
      </label>
      <label>
        Which folder of {machine.name} is it kept alike with?
        <input value={folder} placeholder="/home/…/Office" onChange={(e) => setFolder(e.target.value)} />
        <Quiet>Its files and those of that folder are one place each. The password is kept in the service’s memory alone.</Quiet>
      </label>
      <Row>
        <Primary type="submit" isDisabled={!ready || steps.busy}>
          Try it and add it
        </Primary>
        <Plain onPress={leave}>Not now</Plain>
      </Row>
      <Said {...steps} done={steps.said.length > 0 && !steps.problem && !steps.busy} />
    </Form>
  );
}
