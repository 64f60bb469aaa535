import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { Dialog, Heading, Modal, ModalOverlay } from "react-aria-components";
import { useNavigate } from "react-router";
import styled from "styled-components";
import { ask, client, type ClashRule, type Copy, type Job } from "../api/client";
import { useJob } from "../api/useJob";
import { Plain, Primary, Quiet } from "../parts/controls";
import { Failure } from "../parts/Notice";
import { Progress } from "../parts/Progress";
import { tokens } from "../theme";
import { bytes, counted } from "../when";
import { Choices, type Where } from "./Choices";
import { PlanTable } from "./PlanTable";

const Over = styled(ModalOverlay)`
  position: fixed;
  inset: 0;
  display: grid;
  place-items: center;
  background: rgb(0 0 0 / 45%);
  z-index: 10;
`;

const Box = styled(Modal)`
  width: min(860px, 94vw);
  max-height: 90vh;
  overflow: auto;
  background: ${tokens.sheet};
  border: 1px solid ${tokens.rule};
  border-radius: ${tokens.corner};
  section { padding: 20px 24px; outline: none; }
`;

const Actions = styled.div`
  display: flex;
  justify-content: flex-end;
  align-items: center;
  gap: 10px;
  margin-top: 16px;
`;

/** Shows what bringing copies back would write, clashes settled, and carries it out once that is agreed. */
export function BringBackDialog({ copies, close, done }: { copies: Copy[]; close: () => void; done: () => void }) {
  const [clash, setClash] = useState<ClashRule>("keep-both");
  const [where, setWhere] = useState<Where>(null);
  const begin = useMutation({
    mutationFn: () => ask(client.POST("/bring-backs", { body: { copies: copies.map((c) => c.id), clash, dry_run: false, ...(where ? { to: where } : {}) } })) as Promise<Job>,
  });
  return (
    <Over isOpen isDismissable={!begin.isPending} onOpenChange={(open) => open || close()}>
      <Box>
        <Dialog>
          <Heading slot="title" level={1}>
            Bring back {counted(copies.length, "copy", "copies")}
          </Heading>
          {begin.data ? (
            <Carrying job={begin.data} close={close} done={done} />
          ) : (
            <>
              <Choices clash={clash} setClash={setClash} setWhere={setWhere} />
              <Planned copies={copies} clash={clash} where={where} begin={() => begin.mutate()} busy={begin.isPending} close={close} />
              {begin.error && <Failure problem={begin.error} />}
            </>
          )}
        </Dialog>
      </Box>
    </Over>
  );
}

interface PlannedProps {
  copies: Copy[];
  clash: ClashRule;
  where: Where;
  begin: () => void;
  busy: boolean;
  close: () => void;
}

function Planned({ copies, clash, where, begin, busy, close }: PlannedProps) {
  const ids = copies.map((c) => c.id);
  const plan = useQuery({
    queryKey: ["plan", ids, clash, where],
    queryFn: () => ask(client.POST("/bring-backs", { body: { copies: ids, clash, dry_run: true, ...(where ? { to: where } : {}) } })),
    retry: false,
    staleTime: 0,
  });
  const items = plan.data && "items" in plan.data ? plan.data.items : [];
  const writes = items.filter((i) => i.action === "move" || i.action === "copy").length;
  return (
    <>
      {plan.error && <Failure problem={plan.error} retry={() => void plan.refetch()} />}
      {plan.isPending && <Quiet>Working out the plan …</Quiet>}
      {plan.data && "items" in plan.data && <PlanTable items={items} />}
      <Actions>
        {plan.data && "items" in plan.data && (
          <Quiet>
            Nothing is written yet. {plan.data.bytes > 0 ? `${bytes(plan.data.bytes)} to copy.` : ""}
          </Quiet>
        )}
        <Plain onPress={close}>Not now</Plain>
        {/* A button that was disabled cannot take the focus, so the one that can be pressed is another. */}
        <Primary key={plan.isPending ? "planning" : "planned"} autoFocus isDisabled={busy || writes === 0} onPress={begin}>
          Bring back {writes === items.length ? "" : `${writes} of ${items.length}`}
        </Primary>
      </Actions>
    </>
  );
}

function Carrying({ job: begun, close, done }: { job: Job; close: () => void; done: () => void }) {
  const job = useJob(begun.id) ?? begun;
  const queries = useQueryClient();
  const navigate = useNavigate();
  useEffect(() => {
    if (!job.ended_at) return;
    done();
    void queries.invalidateQueries();
  }, [job.ended_at, queries, done]);
  const show = () => {
    close();
    void navigate(`/receipts/${job.receipt}`);
  };
  return (
    <>
      {job.ended_at ? <p role="status">{ended(job)}</p> : <Progress job={job} label="Bringing back:" />}
      <Actions>
        {!job.ended_at && <Plain onPress={() => void ask(client.DELETE("/jobs/{id}", { params: { path: { id: job.id } } }))}>Stop</Plain>}
        <Primary key={job.ended_at ? "ended" : "running"} autoFocus isDisabled={!job.ended_at} onPress={show}>
          Show the receipt
        </Primary>
      </Actions>
    </>
  );
}

function ended(job: Job): string {
  if (job.state === "done") return `Done: ${counted(job.done, "item")} settled. The receipt says where everything went and can be undone.`;
  return job.error ?? "It was stopped. The receipt says what had arrived.";
}
