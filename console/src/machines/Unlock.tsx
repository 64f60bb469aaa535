import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { ask, client } from "../api/client";
import { Form } from "../cases/cases.styles";
import { Plain, Quiet } from "../parts/controls";
import { Row } from "../parts/layout";
import { Failure } from "../parts/Notice";

/** Gives the password of a store, or of a machine that is reached with one. It is kept in the service's memory alone. */
export function Unlock({ what, label, machine }: { what: string; label: string; machine?: boolean }) {
  const [password, setPassword] = useState("");
  const [said, setSaid] = useState("");
  const unlock = useMutation({
    mutationFn: async () => {
      if (machine) {
        await ask(client.POST("/machines/{name}/unlock", { params: { path: { name: what } }, body: { password } }));
        return "It opens. The service keeps it until it ends.";
      }
      const u = await ask(client.POST("/sources/{id}/unlock", { params: { path: { id: what } }, body: { password } }));
      return `It opens ${u.opened} of ${u.opened + u.locked}. The service keeps it until it ends.`;
    },
    onSuccess: (text) => {
      setPassword("");
      setSaid(text);
    },
  });
  const submit = (e: React.FormEvent) => {
    e.preventDefault();
    if (password !== "" && !unlock.isPending) unlock.mutate();
  };
  return (
    <Form onSubmit={submit} aria-label={label}>
      <Row>
        <label>
          {label}
          <input type="password" autoComplete="off" value={password} onChange={(e) => setPassword(e.target.value)} />
        </label>
        <Plain type="submit" isDisabled={password === "" || unlock.isPending}>
          Unlock
        </Plain>
        {said && <Quiet role="status">{said}</Quiet>}
      </Row>
      {unlock.error && <Failure problem={unlock.error} />}
    </Form>
  );
}
