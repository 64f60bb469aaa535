import { useQueryClient } from "@tanstack/react-query";
import { useEffect } from "react";
import { useNavigate } from "react-router";
import { ask, client, type Job } from "../api/client";
import { useJob } from "../api/useJob";
import { Plain, Primary } from "../parts/controls";
import { Progress } from "../parts/Progress";
import { counted } from "../when";
import { Actions } from "./Actions";

/** How far it is, and the receipt once it has ended. */
export function Carrying({ job: begun, close, done }: { job: Job; close: () => void; done: () => void }) {
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
