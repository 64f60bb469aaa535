import { hashKey, useQuery } from "@tanstack/react-query";
import { ask, client, type ClashRule } from "../api/client";
import { Plain, Primary, Quiet } from "../parts/controls";
import { Failure } from "../parts/Notice";
import { bytes } from "../when";
import { Actions } from "./Actions";
import type { Where } from "./Choices";
import { Confirmations } from "./Confirmations";
import { PlanTable } from "./PlanTable";
import { bodyOf, requestOf, type Ask, type What } from "./what";

interface Props {
  what: What;
  clash: ClashRule;
  where: Where;
  confirmed: Ask[];
  setConfirmed: (all: Ask[]) => void;
  begin: () => void;
  busy: boolean;
  close: () => void;
}

/** What would be written, and where nothing would. */
export function Planned({ what, clash, where, confirmed, setConfirmed, begin, busy, close }: Props) {
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
      {plan.data &&
        "items" in plan.data &&
        (items.length > 0 ? <PlanTable items={items} /> : <p role="status">There is nothing to bring back: everything is as it was.</p>)}
      {asks.length > 0 && <Confirmations asks={asks} confirmed={confirmed} setConfirmed={setConfirmed} />}
      <Actions>
        {plan.data && "items" in plan.data && !planning && (
          <Quiet>Nothing is written yet. {plan.data.bytes > 0 ? `${bytes(plan.data.bytes)} to copy.` : ""}</Quiet>
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
