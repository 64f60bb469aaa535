import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useRef } from "react";
import styled from "styled-components";
import { ask, client, type Job } from "../api/client";
import type { FollowedJob } from "../api/useJob";
import { jobs as jobsQuery, machines as machinesQuery } from "../api/queries";
import { Care, Plain, Quiet, Sheet } from "../parts/controls";
import { Failure, Notice } from "../parts/Notice";
import { Progress } from "../parts/Progress";
import { tokens } from "../theme";
import { Allowed } from "../useRight";
import { absolute, counted } from "../when";

const List = styled.ul`
  margin: 8px 0 12px;
  li { padding: 6px 0; border-top: 1px solid ${tokens.faint}; overflow-wrap: anywhere; }
`;

const Head = styled.div`
  display: flex;
  justify-content: space-between;
  align-items: center;
`;

/** Surveys running, failing and done lately, and the button that begins one. */
export function Surveys() {
  const queries = useQueryClient();
  const { data, error, dataUpdatedAt: told } = useQuery(jobsQuery);
  const { data: site } = useQuery(machinesQuery);
  const begin = useMutation({
    mutationFn: () => ask(client.POST("/surveys", { body: {} })),
    onSuccess: () => queries.invalidateQueries({ queryKey: jobsQuery.queryKey }),
  });
  const trouble = site?.machines.flatMap((m) => m.sources).filter((s) => s.trouble) ?? [];
  return (
    <Sheet aria-label="Surveys">
      <Head>
        <h1>Surveys</h1>
        <Allowed right="survey">
          <Plain isDisabled={begin.isPending} onPress={() => begin.mutate()}>
            Survey everything now
          </Plain>
        </Allowed>
      </Head>
      {error && <Failure problem={error} />}
      {begin.error && <Failure problem={begin.error} />}
      {data?.jobs.length === 0 && <Notice title="Nothing was surveyed yet." />}
      <List>
        {trouble.map((s) => (
          <li key={s.id}>
            <Care>{s.trouble}</Care>
          </li>
        ))}
        {data?.jobs.map((j) => (
          <Survey key={j.id} job={{ ...j, passed: told - new Date(j.created_at).getTime() }} />
        ))}
      </List>
    </Sheet>
  );
}

function Survey({ job }: { job: FollowedJob }) {
  const queries = useQueryClient();
  const ran = useRef(false);
  useEffect(() => {
    if (!job.ended_at) ran.current = true;
    else if (ran.current) {
      ran.current = false;
      void queries.invalidateQueries(); // what it found is shown on every page
    }
  }, [job.ended_at, queries]);
  const stop = useMutation({ mutationFn: () => ask(client.DELETE("/jobs/{id}", { params: { path: { id: job.id } } })) });
  if (!job.ended_at) {
    return (
      <li>
        <Head>
          <Progress job={job} label={job.state === "waiting" ? "Waiting:" : "Surveying:"} />
          <Plain aria-label={`Stop survey ${job.id}`} isDisabled={!stop.isIdle && !stop.isError} onPress={() => stop.mutate()}>
            {stop.isSuccess ? "Stopping …" : "Stop"}
          </Plain>
        </Head>
        {stop.error && <Failure problem={stop.error} />}
      </li>
    );
  }
  const fresh = sum(job, "fresh");
  const gone = sum(job, "gone");
  return (
    <li>
      {absolute(job.created_at)}{" "}
      <Quiet>
        · {counted(job.done, "copy", "copies")}, {fresh.toLocaleString("en-GB")} new, {gone.toLocaleString("en-GB")} gone
      </Quiet>
      {job.state === "cancelled" ? <Quiet as="div">It was stopped.</Quiet> : job.error && <Care as="div">{job.error}</Care>}
    </li>
  );
}

function sum(job: Job, what: "fresh" | "gone"): number {
  return (job.outcomes ?? []).reduce((n, o) => n + o[what], 0);
}
