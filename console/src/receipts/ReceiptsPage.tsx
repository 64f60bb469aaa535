import { useInfiniteQuery } from "@tanstack/react-query";
import { Link, useParams } from "react-router";
import styled from "styled-components";
import { receipts as receiptsQuery } from "../api/queries";
import { Plain, Quiet } from "../parts/controls";
import { Columns, Pane } from "../parts/layout";
import { Failure, Notice } from "../parts/Notice";
import { tokens } from "../theme";
import { absolute, ago } from "../when";
import { ReceiptView, stateText } from "./ReceiptView";

const List = styled.nav`
  overflow: auto;
  border-right: 1px solid ${tokens.faint};
  background: ${tokens.sheet};
  h1 { padding: 10px 16px; border-bottom: 1px solid ${tokens.rule}; }
  a { display: block; padding: 8px 16px; color: ${tokens.ink}; text-decoration: none; border-bottom: 1px solid ${tokens.faint}; }
  a[aria-current] { background: ${tokens.ground}; box-shadow: inset 3px 0 0 ${tokens.ink}; }
  a:focus-visible { outline-offset: -2px; }
`;

export function ReceiptsPage() {
  const { id } = useParams();
  const { data, error, hasNextPage, fetchNextPage } = useInfiniteQuery(receiptsQuery);
  const all = data?.pages.flatMap((p) => p.receipts) ?? [];
  const shown = id ?? all[0]?.id;
  return (
    <Columns $widths="300px minmax(0, 1fr)">
      <List aria-label="Receipts">
        <h1>Receipts</h1>
        {error && <Failure problem={error} />}
        {data && all.length === 0 && <Notice title="Nothing was brought back yet.">Select copies on the Find page and press b.</Notice>}
        {all.map((r) => (
          <Link key={r.id} to={`/receipts/${r.id}`} aria-current={r.id === shown ? "true" : undefined}>
            {r.id} · {absolute(r.at)}
            <Quiet as="div">
              {stateText(r)} · {r.done} of {r.count} arrived · {ago(r.at)}
            </Quiet>
          </Link>
        ))}
        {hasNextPage && <Plain onPress={() => void fetchNextPage()}>Show more</Plain>}
      </List>
      <Pane aria-label="Receipt">{shown && <ReceiptView key={shown} id={shown} />}</Pane>
    </Columns>
  );
}
