import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import type { Copy } from "../api/client";
import { firstCopies } from "../api/queries";
import { Quiet, Sheet } from "../parts/controls";
import { Failure, Notice } from "../parts/Notice";
import { absolute, ago } from "../when";
import { Head, limit, List } from "./desk.styles";
import { findLink } from "./findLink";

export function DeletedLately() {
  const { data, error, refetch } = useQuery(firstCopies({ state: "gone", whole: true, limit }));
  return (
    <Sheet aria-label="Deleted lately">
      <Head>
        <h1>Deleted lately</h1>
        <Link to="/find?state=gone">all of it</Link>
      </Head>
      {error && <Failure problem={error} retry={() => void refetch()} />}
      {data?.copies.length === 0 && (
        <Notice title="No trash holds anything, as far as was surveyed.">
          Add machines with “humble-rewind machine add”, their trashes with “--with-suggested”, and survey.
        </Notice>
      )}
      <List>
        {data?.copies.map((c) => (
          <Deleted key={c.id} copy={c} />
        ))}
      </List>
    </Sheet>
  );
}

function Deleted({ copy: c }: { copy: Copy }) {
  return (
    <li>
      <span>
        <Link to={findLink(c)}>{c.name}</Link>{" "}
        <Quiet>
          {c.person ? `of ${c.person}, ` : ""}
          {c.place.machine}
          {c.source.drive && `, drive ${c.source.drive}`}
        </Quiet>
      </span>
      <Quiet>
        {c.gone_at && absolute(c.gone_at)} · {c.gone_at && ago(c.gone_at)}
      </Quiet>
    </li>
  );
}
