import { useMutation, useQuery } from "@tanstack/react-query";
import { useNavigate, useParams, useSearchParams } from "react-router";
import styled from "styled-components";
import { ask, client, type Case, type NewCase } from "../api/client";
import { caseOf } from "../api/queries";
import { Failure } from "../parts/Notice";
import { Questions } from "./Questions";

const Page = styled.div`
  padding: 14px 20px 40px;
  h1 { margin-bottom: 10px; }
`;

/** Opens a case: a place may come along in the address. */
export function NewCasePage() {
  const [params] = useSearchParams();
  const navigate = useNavigate();
  const open = useMutation({ mutationFn: (body: NewCase) => ask(client.POST("/cases", { body })) as Promise<Case> });
  return (
    <Page>
      <h1>Open a case</h1>
      <Questions
        first={{ machine: params.get("machine") ?? "", where: params.get("path") ?? "" }}
        verb="Open the case"
        send={open}
        leave={() => void navigate("/cases")}
      />
    </Page>
  );
}

/** Changes what a case says, with the same questions. */
export function ChangeCasePage() {
  const { id = "" } = useParams();
  const navigate = useNavigate();
  const { data: k, error } = useQuery(caseOf(id));
  const change = useMutation({
    mutationFn: ({ place, ...body }: NewCase) =>
      ask(
        client.PATCH("/cases/{id}", { params: { path: { id } }, body: { ...changes(body, k), ...(place ? { place } : {}) } }),
      ) as Promise<Case>,
  });
  if (error) return <Failure problem={error} />;
  if (!k) return null;
  const first = {
    person: k.person,
    machine: k.machine,
    where: k.place?.path ?? k.words,
    loss: k.loss,
    happened: k.happened,
    good: k.good_at ?? "",
    noticed: k.noticed_at ?? "",
    hints: k.hints ?? {},
  };
  return (
    <Page>
      <h1>Change case {k.id}</h1>
      <Questions key={k.version} first={first} verb="Change the case" send={change} leave={() => void navigate(`/cases/${id}`)} />
    </Page>
  );
}

/** What was emptied is to be forgotten; the machine goes with the place. */
function changes(
  { person = "", words, happened = "", loss, good_at, noticed_at, hints = {} }: Omit<NewCase, "place">,
  k: Case | undefined,
) {
  const forget: ("good_at" | "noticed_at")[] = [];
  if (!good_at) forget.push("good_at");
  if (!noticed_at) forget.push("noticed_at");
  return {
    person,
    words: words ?? k?.words ?? "",
    happened,
    loss,
    hints,
    forget,
    ...(good_at ? { good_at } : {}),
    ...(noticed_at ? { noticed_at } : {}),
    ...(k ? { version: k.version } : {}),
  };
}
