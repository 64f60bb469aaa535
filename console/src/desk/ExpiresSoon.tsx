import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { firstCopies } from "../api/queries";
import { Care, Quiet, Sheet } from "../parts/controls";
import { Failure, Notice } from "../parts/Notice";
import { useNow } from "../useNow";
import { expiry } from "../when";
import { Head, limit, List } from "./desk.styles";
import { findLink } from "./findLink";

const week = 7 * 24 * 3600_000;

export function ExpiresSoon() {
  // To the hour, so that the same question is not asked anew at every look.
  const before = new Date(Math.ceil((useNow() + week) / 3600_000) * 3600_000).toISOString();
  const { data, error } = useQuery(firstCopies({ expires_before: before, whole: true, sort: "expires", limit }));
  return (
    <Sheet aria-label="Expires soon">
      <Head>
        <h1>Expires within a week</h1>
        {data && data.total > limit && <Link to="/find?sort=expires">all {data.total}</Link>}
      </Head>
      {error && <Failure problem={error} />}
      {data?.copies.length === 0 && <Notice title="Nothing does." />}
      <List>
        {data?.copies.map((c) => (
          <li key={c.id}>
            <span>
              <Link to={findLink(c)}>{c.name}</Link> <Quiet>{c.person && `of ${c.person}`}</Quiet>
            </span>
            <Care>{expiry(c.expires_at).text}</Care>
          </li>
        ))}
      </List>
    </Sheet>
  );
}
