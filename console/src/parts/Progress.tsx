import { Label, ProgressBar } from "react-aria-components";
import styled from "styled-components";
import type { Job } from "../api/client";
import { tokens } from "../theme";
import { counted } from "../when";
import { Quiet } from "./controls";

const Track = styled.div`
  height: 6px;
  border: 1px solid ${tokens.rule};
  margin: 4px 0;
`;

const Fill = styled.div.attrs<{ $share: number }>(({ $share }) => ({ style: { width: `${$share}%` } }))<{ $share: number }>`
  height: 100%;
  background: ${tokens.ink};
`;

/** How far a job is, as it reports it: a share where the whole is known, else a count. */
export function Progress({ job, label }: { job: Job; label: string }) {
  const share = job.total > 0 ? (100 * job.done) / job.total : undefined;
  const said = job.total > 0 ? `${job.done.toLocaleString("en-GB")} of ${counted(job.total, "item")}` : counted(job.done, "copy", "copies");
  return (
    <ProgressBar {...(share === undefined ? { isIndeterminate: true } : { value: share })} valueLabel={said}>
      <Label>{label}</Label> <Quiet>{said}</Quiet>
      {share !== undefined && (
        <Track>
          <Fill $share={share} />
        </Track>
      )}
      {job.doing && <Quiet as="div">{job.doing}</Quiet>}
    </ProgressBar>
  );
}
