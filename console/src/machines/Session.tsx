import { useMutation, useQueryClient } from "@tanstack/react-query";
import { ask, client, type Schemas } from "../api/client";
import { machines } from "../api/queries";
import { Care, Plain, Quiet } from "../parts/controls";
import { Row } from "../parts/layout";
import { Failure } from "../parts/Notice";
import { Allowed } from "../useRight";
import { absolute } from "../when";

type Machine = Schemas["Machine"];

const states = {
  unasked: "",
  awake: "",
  asleep: "not reached",
  locked: "locked: it needs its password",
  stopped: "left alone",
};

/** What is to be said of how a machine is reached; "" where that is as it should be. */
export const said = (m: Machine) => states[m.session?.state ?? "unasked"];

/** How a machine is reached now, and whether it is to be at all. */
export function Session({ machine, alter }: { machine: Machine; alter: () => void }) {
  const queries = useQueryClient();
  const { session } = machine;
  const stopped = session?.state === "stopped";
  const change = useMutation({
    mutationFn: () => ask(client.PATCH("/machines/{name}", { params: { path: { name: machine.name } }, body: { stopped: !stopped } })),
    onSettled: () => queries.invalidateQueries({ queryKey: machines.queryKey }),
  });
  return (
    <>
      {session && said(machine) && (
        <p>
          <Care>
            {machine.name} is {said(machine)}
            {session.since && ` since ${absolute(session.since)}`}.
          </Care>{" "}
          {session.why && <Quiet>{session.why}.</Quiet>}
          {session.again && <Quiet> It is tried again from {absolute(session.again)} on.</Quiet>}
        </p>
      )}
      {change.error && <Failure problem={change.error} />}
      <Allowed right="arrange">
        <Row>
          <Plain isDisabled={change.isPending} onPress={() => change.mutate()}>
            {stopped ? "Take it up again" : "Leave it alone"}
          </Plain>
          <Plain onPress={alter}>Change …</Plain>
        </Row>
      </Allowed>
    </>
  );
}
