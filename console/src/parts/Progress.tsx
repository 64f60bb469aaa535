import { Label, ProgressBar } from "react-aria-components";
import styled from "styled-components";
import type { FollowedJob } from "../api/useJob";
import { tokens } from "../theme";
import { bytes, counted } from "../when";
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
export function Progress({ job, label }: { job: FollowedJob; label: string }) {
  const share = job.total > 0 ? (100 * job.done) / job.total : undefined;
  const said = job.total > 0 ? `${job.done.toLocaleString("en-GB")} of ${counted(job.total, "item")}` : counted(job.done, "copy", "copies");
  return (
    <ProgressBar {...(share === undefined ? { isIndeterminate: true } : { value: share })} valueLabel={said}>
      <Label>{label}</Label>{" "}
      <Quiet>
        {said}
        {pace(job)}
      </Quiet>
      {share !== undefined && (
        <Track>
          <Fill $share={share} />
        </Track>
      )}
      {job.doing && <Quiet as="div">{job.doing}</Quiet>}
    </ProgressBar>
  );
}

/** How fast it goes and how long the rest takes at that, once there is something to tell it by. */
function pace({ done, total, bytes: written, passed }: FollowedJob): string {
  if (!passed || passed < 2000 || done === 0) return "";
  const rate =
    written > 0
      ? `, ${bytes((1000 * written) / passed)} a second`
      : `, ${Math.round((1000 * done) / passed).toLocaleString("en-GB")} a second`;
  if (total <= done) return rate;
  const left = Math.round(((passed / done) * (total - done)) / 1000);
  return `${rate}, about ${left < 90 ? `${left} s` : `${Math.round(left / 60)} min`} left`;
}
