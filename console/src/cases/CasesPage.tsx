import { useQuery } from "@tanstack/react-query";
import { useCallback } from "react";
import { Link, useNavigate, useSearchParams } from "react-router";
import styled from "styled-components";
import type { Case, CaseState } from "../api/client";
import { cases } from "../api/queries";
import { Key, Primary, Quiet } from "../parts/controls";
import { Row } from "../parts/layout";
import { Failure, Notice } from "../parts/Notice";
import { tokens } from "../theme";
import { useKey } from "../useKeys";
import { ago } from "../when";
import { Lines } from "./cases.styles";
import { lossWord, stateWord, whatOf } from "./words";

const Page = styled.div`
  max-width: 1000px;
  padding: 14px 20px 40px;
  input, select { border: 1px solid ${tokens.rule}; border-radius: ${tokens.corner}; padding: 5px 9px; background: ${tokens.sheet}; }
`;

export function CasesPage() {
  const [params, setParams] = useSearchParams();
  const navigate = useNavigate();
  const open = useCallback(() => void navigate("/cases/new"), [navigate]);
  useKey("n", open);
  const words = params.get("about") ?? "";
  const state = (params.get("state") ?? "") as CaseState | "";
  const { data, error, refetch } = useQuery(cases({ ...(words ? { words } : {}), ...(state ? { state } : {}), limit: 100 }));
  const set = (name: string, value: string) =>
    setParams(
      (before) => {
        const next = new URLSearchParams(before);
        next.delete(name);
        if (value) next.set(name, value);
        return next;
      },
      { replace: true },
    );
  return (
    <Page>
      <Row>
        <h1>Cases</h1>
        <input
          aria-label="Words in a case"
          placeholder="Words in a case or its notes"
          defaultValue={words}
          onChange={(e) => set("about", e.target.value)}
        />
        <select aria-label="State" value={state} onChange={(e) => set("state", e.target.value)}>
          <option value="">any state</option>
          <option value="open">open</option>
          <option value="waiting">waiting for the user</option>
          <option value="done">done</option>
        </select>
        <Primary onPress={open}>
          Open a case<Key aria-hidden>n</Key>
        </Primary>
      </Row>
      {error && <Failure problem={error} retry={() => void refetch()} />}
      {data?.cases.length === 0 && (
        <Notice title="No case is like that.">
          Open one when somebody asks for help: it says what to do first, where to look, and keeps what was done.
        </Notice>
      )}
      <Lines aria-label="Cases">
        {data?.cases.map((k) => (
          <CaseLine key={k.id} of={k} />
        ))}
      </Lines>
      {data?.next && <Quiet>There are more; words or a state narrow them down.</Quiet>}
    </Page>
  );
}

export function CaseLine({ of: k }: { of: Case }) {
  return (
    <li>
      <span>
        <Link to={`/cases/${k.id}`}>{whatOf(k)}</Link>{" "}
        <Quiet>
          {lossWord(k.loss)}
          {k.person ? `, ${k.person}` : ""}
          {k.machine ? ` at ${k.machine}` : ""}
        </Quiet>
      </span>
      <Quiet>
        {k.id} · {stateWord[k.state]} · {ago(k.changed_at)}
      </Quiet>
    </li>
  );
}
