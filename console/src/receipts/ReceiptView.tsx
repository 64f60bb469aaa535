import { useInfiniteQuery, useMutation, useQueryClient } from "@tanstack/react-query";
import { useCallback, useEffect } from "react";
import styled from "styled-components";
import { ask, client, type Receipt, type ReceiptItem } from "../api/client";
import { receipt as receiptQuery } from "../api/queries";
import { useJob } from "../api/useJob";
import { Care, Key, Mono, Plain, Quiet } from "../parts/controls";
import { Failure } from "../parts/Notice";
import { PlaceText } from "../parts/PlaceText";
import { Progress } from "../parts/Progress";
import { tokens } from "../theme";
import { useKey } from "../useKeys";
import { useRight } from "../useRight";
import { absolute, bytes, counted } from "../when";

const Head = styled.div`
  display: flex;
  flex-wrap: wrap;
  justify-content: space-between;
  align-items: start;
  gap: 8px 16px;
`;

const Table = styled.table`
  width: 100%;
  margin-top: 14px;
  border-collapse: collapse;
  background: ${tokens.sheet};
  th { text-align: left; font-weight: 400; color: ${tokens.quiet}; border-bottom: 1px solid ${tokens.rule}; padding: 6px 12px; }
  td { vertical-align: top; padding: 8px 12px; border-bottom: 1px solid ${tokens.faint}; }
  th:nth-child(2), td:nth-child(2) { text-align: right; white-space: nowrap; }
`;

export function stateText(r: Receipt): string {
  const words = {
    open: "being carried out",
    done: "done",
    part: "done in part",
    failed: "nothing arrived",
    undoing: "being undone",
    undone: "undone",
  };
  return words[r.state];
}

/** One receipt: what went where, from where, and the way back. */
export function ReceiptView({ id }: { id: string }) {
  const { data, error, refetch, fetchNextPage, hasNextPage, isFetchingNextPage } = useInfiniteQuery(receiptQuery(id));
  const r = data?.pages.at(-1); // as it stands by the latest page
  if (error) return <Failure problem={error} retry={() => void refetch()} />;
  if (!data || !r) return <Quiet>Reading …</Quiet>;
  const items = data.pages.flatMap((page) => page.items);
  return (
    <article aria-label={`Receipt ${r.id}`}>
      <Head>
        <div>
          <h1>
            Receipt {r.id}: {stateText(r)}
          </h1>
          <Quiet>
            {absolute(r.at)} by {r.by} · {r.done} of {r.count} arrived
            {r.undone_at && ` · undone ${absolute(r.undone_at)} by ${r.undone_by}`}
          </Quiet>
        </div>
        <Undo receipt={r} />
      </Head>
      <Table aria-label="Items">
        <thead>
          <tr>
            <th>Outcome</th>
            <th>Size</th>
            <th>Where to</th>
          </tr>
        </thead>
        <tbody>
          {items.map((i, n) => (
            <Item key={n} item={i} />
          ))}
        </tbody>
      </Table>
      {hasNextPage && (
        <Plain isDisabled={isFetchingNextPage} onPress={() => void fetchNextPage()}>
          Show more ({items.length} of {counted(r.count, "item")} are shown)
        </Plain>
      )}
    </article>
  );
}

function Item({ item: i }: { item: ReceiptItem }) {
  const well = i.outcome === "done" || i.outcome === "undone";
  return (
    <tr>
      <td>{well ? i.outcome : <Care>{i.outcome}</Care>}</td>
      <td>{bytes(i.size)}</td>
      <td>
        {i.to.machine ? <PlaceText place={i.to} /> : <Quiet>nowhere</Quiet>}
        <Quiet as="div">
          from <PlaceText place={i.from} />
        </Quiet>
        {i.note && <Care as="div">{i.note}</Care>}
        {i.set_aside && (
          <Care as="div">
            Set aside what stood there: a {i.set_aside.type} of {bytes(i.set_aside.size)}. Undo puts it back.
          </Care>
        )}
        {i.sha256 && (
          <Quiet as="div">
            digest <Mono title={i.sha256}>{i.sha256.slice(0, 16)}…</Mono>
          </Quiet>
        )}
      </td>
    </tr>
  );
}

function Undo({ receipt: r }: { receipt: Receipt }) {
  const queries = useQueryClient();
  const undo = useMutation({ mutationFn: () => ask(client.POST("/receipts/{id}/undo", { params: { path: { id: r.id } } })) });
  const job = useJob(undo.data?.id);
  useEffect(() => {
    if (job?.ended_at) void queries.invalidateQueries();
  }, [job?.ended_at, queries]);
  const may = useRight("bring-back");
  const can = may && ((r.state === "done" && r.done > 0) || r.state === "part"); // part of a folder may be all that arrived
  const { mutate } = undo;
  useKey(
    "u",
    useCallback(() => mutate(), [mutate]),
    can && !undo.isPending,
  );
  return (
    <div>
      {can && (
        <Plain isDisabled={undo.isPending} onPress={() => mutate()}>
          Undo<Key>u</Key>
        </Plain>
      )}
      {undo.error && <Failure problem={undo.error} />}
      {job && !job.ended_at && <Progress job={job} label="Undoing:" />}
      {job?.error && <Care as="div">{job.error}</Care>}
    </div>
  );
}
