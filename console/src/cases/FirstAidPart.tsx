import { useQuery } from "@tanstack/react-query";
import { Checkbox } from "react-aria-components";
import styled from "styled-components";
import type { FirstAid } from "../api/client";
import { firstAid } from "../api/queries";
import { Care, Quiet } from "../parts/controls";
import { Failure } from "../parts/Notice";
import { tokens } from "../theme";
import { absolute, bytes, counted } from "../when";
import { Part } from "./cases.styles";
import { useAdd } from "./useCases";

const Step = styled(Checkbox)`
  display: grid;
  grid-template-columns: 18px minmax(0, 1fr);
  gap: 0 8px;
  padding: 3px 0;
  cursor: pointer;
  &::before { content: ""; width: 14px; height: 14px; margin-top: 4px; border: 1px solid ${tokens.rule}; border-radius: ${tokens.corner}; }
  &[data-selected]::before { content: "✓"; font: 12px/13px ${tokens.mono}; text-align: center; border-color: ${tokens.ink}; }
  &[data-selected] .said { text-decoration: line-through; text-decoration-color: ${tokens.rule}; }
`;

const Folded = styled.details`
  > summary { cursor: pointer; font-weight: 650; }
  > summary span { font-weight: 400; }
`;

/** What to do, and not to do, before anything else; to be read out, and ticked. */
export function FirstAidPart({ id }: { id: string }) {
  const { data, error } = useQuery(firstAid(id));
  const add = useAdd(id);
  const left = data?.steps.filter((s) => !s.done).length ?? 0;
  return (
    <Part aria-label="First aid">
      <Folded open={left > 0 || undefined}>
        <summary>
          First aid <Quiet>{left > 0 ? `${counted(left, "step")} to read out and tick` : data ? "all steps are done" : ""}</Quiet>
        </summary>
        {error && <Failure problem={error} />}
        {data?.steps.map((s) => (
          <Step key={s.id} isSelected={s.done} onChange={(done) => add.mutate({ kind: done ? "step" : "unstep", ref: s.id })}>
            <span>
              {s.urgent && !s.done && <Care>Now: </Care>}
              <span className="said">{s.text}</span> <Quiet>{s.done ? `Done by ${s.done_by ?? "somebody"}.` : s.why}</Quiet>
            </span>
          </Step>
        ))}
        {data && <Quiet as="p">{driveSaid(data.drive)}</Quiet>}
        {add.error && <Failure problem={add.error} />}
      </Folded>
    </Part>
  );
}

const media = { rotating: "a rotating drive", "solid-state": "a solid-state drive", network: "a network drive" };
const discards = {
  "at-once": "wiping freed blocks at once",
  periodic: "wiping freed blocks from time to time",
  never: "not wiping freed blocks",
};

/** The facts that the steps go by. */
function driveSaid(d: FirstAid["drive"]): string {
  const parts: string[] = [];
  if (d.mount) parts.push(`It is on ${d.device ?? "a drive"}, mounted at ${d.mount}${d.file_system ? ` (${d.file_system})` : ""}`);
  if (d.medium) parts.push(media[d.medium]);
  if (d.discard) parts.push(discards[d.discard]);
  if (d.free !== undefined) parts.push(`${bytes(d.free)} free`);
  if (d.newest_write) parts.push(`last written ${absolute(d.newest_write)}`);
  return [parts.join(", "), ...d.notes].filter((s) => s !== "").join(". ");
}
