import { useInfiniteQuery } from "@tanstack/react-query";
import { useMemo, useState } from "react";
import { useSearchParams } from "react-router";
import styled from "styled-components";
import type { Copy } from "../api/client";
import { copies as copiesQuery, type FindQuery } from "../api/queries";
import { Plain, Quiet } from "../parts/controls";
import { Column, Columns, Desk } from "../parts/layout";
import { Failure, Notice } from "../parts/Notice";
import { tokens } from "../theme";
import { useNarrow } from "../useNarrow";
import { counted, zone } from "../when";
import { CopyList } from "./CopyList";
import { Filters } from "./Filters";
import { ReadingPane } from "./ReadingPane";

const Side = styled(Column)`
  padding: 14px 16px;
`;

const Middle = styled(Desk)`
  border-left: 1px solid ${tokens.faint};
  padding: 0;
  overflow: hidden;
  display: flex;
  flex-direction: column;
`;

const Head = styled.div`
  display: flex;
  flex-wrap: wrap;
  justify-content: space-between;
  gap: 4px 12px;
  padding: 10px 16px;
  border-bottom: 1px solid ${tokens.rule};
`;

const filters = ["words", "machine", "person", "under", "type", "state", "condition", "source", "shape", "gone_since", "sort"] as const;

export function FindPage() {
  const [params] = useSearchParams();
  const query = useMemo(() => {
    const q: Record<string, string | boolean | string[]> = {};
    for (const name of filters) {
      const value = params.get(name);
      if (value) q[name] = value;
    }
    if (params.get("records")) q.records = true;
    if (params.get("named")) q.named = params.get("named") === "yes";
    const intact = params.getAll("intact");
    if (intact.length > 0) q.intact = intact;
    return q as FindQuery;
  }, [params]);
  const { data, error, isPending, hasNextPage, fetchNextPage, isFetchingNextPage, refetch } = useInfiniteQuery(copiesQuery(query));
  const found = useMemo(() => data?.pages.flatMap((p) => p.copies) ?? [], [data]);
  const first = data?.pages[0];
  const narrow = useNarrow();
  const used = Object.keys(query).filter((name) => name !== "words" && name !== "sort").length;
  const [chosen, setChosen] = useState<string>();
  const shown = found.find((c) => c.id === chosen) ?? found[0];
  return (
    <Columns $widths="176px minmax(0, 1fr) minmax(280px, 36%)">
      <Side as="aside" aria-label="Filters">
        {narrow ? (
          <details>
            <summary>Filters{used > 0 && `, ${used} set`}</summary>
            <Filters />
          </details>
        ) : (
          <Filters />
        )}
      </Side>
      <Middle>
        <Head>
          <h1>{first ? total(first.total, first.total_exact) : "Find"}</h1>
          <Quiet>Space selects, arrows move · times are in {zone}</Quiet>
        </Head>
        {error && <Failure problem={error} retry={() => void refetch()} />}
        {isPending && <Notice title="Looking …" />}
        {first && found.length === 0 && <NothingFound />}
        {found.length > 0 && <CopyList copies={found} show={setChosen} />}
        {hasNextPage && (
          <Head>
            <Plain isDisabled={isFetchingNextPage} onPress={() => void fetchNextPage()}>
              Show more
            </Plain>
          </Head>
        )}
      </Middle>
      <Side as="section" aria-label="Reading pane">
        {shown && <ReadingPane copy={shown satisfies Copy} />}
      </Side>
    </Columns>
  );
}

function total(n: number, exact: boolean): string {
  return exact ? counted(n, "copy", "copies") : `More than ${counted(n, "copy", "copies")}`;
}

function NothingFound() {
  return (
    <Notice title="Nothing was found.">
      Try fewer letters or fewer filters. If the loss is fresh, survey again from the Desk. Tick “known by record alone” for what was in a
      trash once and is no longer.
    </Notice>
  );
}
