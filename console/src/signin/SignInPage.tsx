import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { Form, Input, Label, TextField } from "react-aria-components";
import styled from "styled-components";
import { ask, client, type Problem } from "../api/client";
import { sessionKey } from "../api/key";
import { session } from "../api/queries";
import { Primary, Quiet } from "../parts/controls";
import { Failure } from "../parts/Notice";
import { tokens } from "../theme";

const Page = styled.main`
  max-width: 480px;
  margin: 14vh auto 0;
  padding: 0 20px;
  form { display: grid; gap: 12px; margin: 16px 0; }
  input {
    width: 100%;
    margin-top: 4px;
    padding: 8px 10px;
    border: 1px solid ${tokens.rule};
    border-radius: ${tokens.corner};
    background: ${tokens.sheet};
    font-family: ${tokens.mono};
  }
`;

/** Signs in with a technician's token, typed or from the link that the demo prints (behind #, so that no log keeps it). */
export function SignInPage({ why }: { why: Problem | null }) {
  const queries = useQueryClient();
  const [token, setToken] = useState("");
  const { mutate, error, isPending } = useMutation({
    mutationFn: (t: string) => ask(client.POST("/session", { body: { token: t } })),
    onSuccess: (signedIn) => {
      sessionKey.set(signedIn.key ?? "");
      return queries.invalidateQueries({ queryKey: session.queryKey });
    },
  });
  useEffect(() => {
    const linked = new URLSearchParams(location.hash.slice(1)).get("token");
    if (!linked) return;
    history.replaceState(null, "", "/");
    mutate(linked);
  }, [mutate]);
  const submit = (event: React.FormEvent) => {
    event.preventDefault();
    mutate(token.trim());
  };
  return (
    <Page>
      <h1>Humble Rewind</h1>
      <Form onSubmit={submit}>
        <TextField value={token} onChange={setToken} type="password" autoFocus isRequired>
          <Label>The technician’s token</Label>
          <Input autoComplete="current-password" />
        </TextField>
        <div>
          <Primary type="submit" isDisabled={isPending}>
            Sign in
          </Primary>
        </div>
      </Form>
      {error ? <Failure problem={error} /> : why && why.status !== 401 && <Failure problem={why} />}
      <Quiet>It is the line in technician.token in the service’s data folder.</Quiet>
    </Page>
  );
}
