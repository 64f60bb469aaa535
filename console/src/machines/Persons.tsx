import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import styled from "styled-components";
import { ask, client, type Schemas } from "../api/client";
import { persons } from "../api/queries";
import { Plain, Quiet } from "../parts/controls";
import { Row } from "../parts/layout";
import { Failure } from "../parts/Notice";
import { tokens } from "../theme";
import { Allowed } from "../useRight";

type Account = Schemas["Account"];

const List = styled.ul`
  li { padding: 6px 0; border-top: 1px solid ${tokens.faint}; overflow-wrap: anywhere; }
`;

const Answers = ({ children }: { children: React.ReactNode }) => (
  <Allowed right="arrange">
    <Row>{children}</Row>
  </Allowed>
);

const called = (a: Account) => `${a.name}@${a.machine}`;

function useAnswer() {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: ({ same, accounts }: { same: boolean; accounts: Account[] }) =>
      same ? ask(client.POST("/persons/join", { body: { accounts } })) : ask(client.POST("/persons/part", { body: { accounts } })),
    onSettled: () => queries.invalidateQueries({ queryKey: persons.queryKey }),
  });
}

/** Which accounts may be one person's: only people can tell. Of a machine, or of all. */
export function PersonQuestions({ machine, most = 100 }: { machine?: string; most?: number }) {
  const { data } = useQuery(persons);
  const answer = useAnswer();
  const asked = (data?.questions ?? []).filter((q) => machine === undefined || q.one.machine === machine || q.other.machine === machine);
  if (asked.length === 0) return null;
  return (
    <>
      {answer.error && <Failure problem={answer.error} />}
      <List aria-label="Questions about people">
        {asked.slice(0, most).map(({ one, other, why }) => (
          <li key={called(one) + called(other)}>
            Are {called(one)} and {called(other)} one person? <Quiet>{why.map((w) => w.text).join(" ")}</Quiet>
            <Answers>
              <Plain
                aria-label={`${called(one)} and ${called(other)} are one person`}
                isDisabled={answer.isPending}
                onPress={() => answer.mutate({ same: true, accounts: [one, other] })}
              >
                One person
              </Plain>
              <Plain
                aria-label={`${called(one)} and ${called(other)} are two persons`}
                isDisabled={answer.isPending}
                onPress={() => answer.mutate({ same: false, accounts: [one, other] })}
              >
                Two persons
              </Plain>
            </Answers>
          </li>
        ))}
      </List>
      {asked.length > most && <Quiet>and {asked.length - most} more, on the pages of the machines</Quiet>}
    </>
  );
}

/** Who lives on a machine, and which other accounts they have. */
export function Persons({ machine }: { machine: string }) {
  const { data, error } = useQuery(persons);
  const answer = useAnswer();
  if (error) return <Failure problem={error} />;
  const here = (data?.persons ?? []).flatMap((p) => p.accounts.filter((a) => a.machine === machine).map((account) => ({ p, account })));
  if (here.length === 0) return null;
  return (
    <>
      <h2>People</h2>
      {answer.error && <Failure problem={answer.error} />}
      <List aria-label="People">
        {here.map(({ p, account }) => {
          const others = p.accounts.filter((a) => a !== account);
          return (
            <li key={account.name}>
              {account.name} <Quiet>{[account.full_name, account.home].filter(Boolean).join(", ")}</Quiet>
              {others.length > 0 && (
                <Row>
                  <span>is {others.map(called).join(" and ")} too</span>
                  <Allowed right="arrange">
                    <Plain
                      aria-label={`${called(account)} is somebody else`}
                      isDisabled={answer.isPending}
                      onPress={() => answer.mutate({ same: false, accounts: [account] })}
                    >
                      Is somebody else
                    </Plain>
                  </Allowed>
                </Row>
              )}
            </li>
          );
        })}
      </List>
      <PersonQuestions machine={machine} />
    </>
  );
}
