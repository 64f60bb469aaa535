import { useQuery } from "@tanstack/react-query";
import type { Place } from "../api/client";
import { comparison } from "../api/queries";
import { absolute } from "../when";
import { Mono, Quiet } from "./controls";
import { Cells, Entries } from "./DifferenceTables";
import { Failure, Notice } from "./Notice";
import { Passages } from "./Passages";
import { Pictures } from "./Pictures";

/**
 * How two copies differ; right is a copy's id, or "now", where at names another place than the copy's own. The left one is the older, whose
 * passages can be copied out.
 */
export function Difference({ left, right, at }: { left: string; right: string; at?: Place | undefined }) {
  const { data, error, isPending, refetch } = useQuery(comparison(left, right, at));
  if (isPending) return <Quiet>Comparing …</Quiet>;
  if (error) return <Failure problem={error} retry={() => void refetch()} />;
  return (
    <div>
      <p>
        <Quiet>first</Quiet> <Mono>{data.left.id}</Mono> {data.left.written_at && absolute(data.left.written_at)}
        <br />
        <Quiet>second</Quiet> {data.right ? <Mono>{data.right.id}</Mono> : "what is there now"}{" "}
        {data.right?.written_at && absolute(data.right.written_at)}
      </p>
      <Notice title={data.summary}>{data.notes.join(" ")}</Notice>
      {data.blocks.length > 0 && <Passages blocks={data.blocks} />}
      {data.cells.length > 0 && <Cells cells={data.cells} />}
      {data.entries.length > 0 && <Entries entries={data.entries} />}
      {data.picture && <Pictures d={data} picture={data.picture} />}
      {data.cut && <Quiet>There is more than is shown.</Quiet>}
    </div>
  );
}
