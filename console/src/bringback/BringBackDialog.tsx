import { hashKey, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { Checkbox, CheckboxGroup, Dialog, Heading, Modal, ModalOverlay } from "react-aria-components";
import { useNavigate } from "react-router";
import styled from "styled-components";
import { ask, client, type ClashRule, type Copy, type Job, type Only, type Place } from "../api/client";
import { useJob } from "../api/useJob";
import { Plain, Primary, Quiet } from "../parts/controls";
import { Failure } from "../parts/Notice";
import { Progress } from "../parts/Progress";
import { tokens } from "../theme";
import { absolute, bytes, counted, zone } from "../when";
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
  position: sticky;
  bottom: -20px;
  margin-top: 8px;
  padding: 12px 0;
  background: ${tokens.sheet};
`;

const Confirmation = styled(Checkbox)`
  display: flex;
  align-items: baseline;
  gap: 8px;
  margin-top: 12px;
  cursor: pointer;
  &::before { content: ""; flex: none; width: 11px; height: 11px; border: 1px solid ${tokens.rule}; align-self: center; }
  &[data-selected]::before { background: ${tokens.ink}; border-color: ${tokens.ink}; }
  &[data-focus-visible] { outline: 2px solid ${tokens.ink}; outline-offset: 2px; }
`;

/** What is brought back: copies, or a place as it stood at a moment. */
export type What = { copies: Copy[] } | { place: Place; as_of: string; only: Only } | { case: string; chosen: Copy[]; files: number };

/** What a technician may confirm, so that it is planned otherwise. */
type Ask = "keep-owners" | "trust-claimed";

function bodyOf(where: Where, confirmed: Ask[]) {
  return { ...(where ? { to: where } : {}), keep_owners: confirmed.includes("keep-owners"), trust_claimed: confirmed.includes("trust-claimed") };
}

/** What is asked of the service. In a case, no copies named are those that are advised. */
function requestOf(what: What) {
  if ("case" in what) return { case: what.case, zone, ...(what.chosen.length > 0 ? { copies: what.chosen.map((c) => c.id) } : {}) };
  return "copies" in what ? { copies: what.copies.map((c) => c.id) } : what;
}

function titleOf(what: What): string {
  if ("case" in what) return `Bring back ${counted(what.files, "file")} for case ${what.case}`;
  if ("copies" in what) return `Bring back ${counted(what.copies.length, "copy", "copies")}`;
  const amounts = { missing: "what is missing of", changed: "what is missing or changed of", exact: "exactly" };
  return `Bring back ${amounts[what.only]} ${what.place.path} as of ${absolute(what.as_of)}`;
}

/** Shows what bringing copies back would write, clashes settled, and carries it out once that is agreed. */
export function BringBackDialog({ what, rule = "keep-both", close, done }: { what: What; rule?: ClashRule; close: () => void; done: () => void }) {
  const [clash, setClash] = useState<ClashRule>(rule);
  const [where, setWhere] = useState<Where>(null);
  const [confirmed, setConfirmed] = useState<Ask[]>([]);
  const begin = useMutation({
    mutationFn: () => ask(client.POST("/bring-backs", { body: { ...requestOf(what), clash, dry_run: false, ...bodyOf(where, confirmed) } })) as Promise<Job>,
  });
  return (
    <Over isOpen isDismissable={!begin.isPending} onOpenChange={(open) => open || close()}>
      <Box>
        <Dialog>
          <Heading slot="title" level={1}>
            {titleOf(what)}
          </Heading>
          {begin.data ? (
            <Carrying job={begin.data} close={close} done={done} />
          ) : (
            <>
              <Choices clash={clash} setClash={setClash} setWhere={setWhere} />
              <Planned what={what} clash={clash} where={where} confirmed={confirmed} setConfirmed={setConfirmed} begin={() => begin.mutate()} busy={begin.isPending} close={close} />
              {begin.error && <Failure problem={begin.error} />}
            </>
          )}
        </Dialog>
      </Box>
    </Over>
  );
}

interface PlannedProps {
  what: What;
  clash: ClashRule;
  where: Where;
  confirmed: Ask[];
  setConfirmed: (all: Ask[]) => void;
  begin: () => void;
  busy: boolean;
  close: () => void;
}

function Planned({ what, clash, where, confirmed, setConfirmed, begin, busy, close }: PlannedProps) {
  const request = requestOf(what);
  const about = ["plan", request, clash, where];
  const plan = useQuery({
    queryKey: [...about, confirmed],
    queryFn: () => ask(client.POST("/bring-backs", { body: { ...request, clash, dry_run: true, ...bodyOf(where, confirmed) } })),
    retry: false,
    staleTime: 0,
    // A tick keeps the plan in sight and the focus where it is, while it is planned otherwise.
    placeholderData: (last, query) => (query && hashKey(query.queryKey.slice(0, about.length)) === hashKey(about) ? last : undefined),
  });
  const planning = plan.isPending || plan.isPlaceholderData;
  const items = plan.data && "items" in plan.data ? plan.data.items : [];
  const asks = (["keep-owners", "trust-claimed"] as const).filter((a) => confirmed.includes(a) || items.some((i) => i.asks?.includes(a)));
  const writes = items.filter((i) => i.action === "move" || i.action === "copy" || i.action === "set-aside").length;
  return (
    <>
      {plan.error && <Failure problem={plan.error} retry={() => void plan.refetch()} />}
      {planning && <Quiet>Working out the plan …</Quiet>}
      {plan.data && "items" in plan.data && (items.length > 0 ? <PlanTable items={items} /> : <p role="status">There is nothing to bring back: everything stands as it did.</p>)}
      {asks.length > 0 && <Confirmations asks={asks} confirmed={confirmed} setConfirmed={setConfirmed} />}
      <Actions>
        {plan.data && "items" in plan.data && !planning && (
          <Quiet>
            Nothing is written yet. {plan.data.bytes > 0 ? `${bytes(plan.data.bytes)} to copy.` : ""}
          </Quiet>
        )}
        <Plain onPress={close}>Not now</Plain>
        {/* A button that was disabled cannot take the focus, so the one that can be pressed is another. */}
        <Primary key={plan.isPending ? "planning" : "planned"} autoFocus isDisabled={busy || planning || writes === 0} onPress={begin}>
          Bring back {writes === items.length ? "" : `${writes} of ${items.length}`}
        </Primary>
      </Actions>
    </>
  );
}

const means: Record<Ask, string> = {
  "keep-owners": "I know that the owners and set-id bits are right: keep them, although users can write where this comes from",
  "trust-claimed": "I know that this came from where its record claims: let it go there, although the record may be forged",
};

function Confirmations({ asks, confirmed, setConfirmed }: { asks: Ask[]; confirmed: Ask[]; setConfirmed: (all: Ask[]) => void }) {
  return (
    <CheckboxGroup aria-label="To confirm" value={confirmed} onChange={(all) => setConfirmed(all as Ask[])}>
      {asks.map((a) => (
        <Confirmation key={a} value={a}>
          {means[a]}
        </Confirmation>
      ))}
    </CheckboxGroup>
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
