import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { firstCopies } from "../api/queries";
import { Care, Quiet, Sheet } from "../parts/controls";
import { Failure } from "../parts/Notice";
import { nameOf, parentOf, placeParams } from "../places";
import { Head, List } from "./desk.styles";

/** What was examined unasked and found broken where it stands. */
export function Broken() {
  const some = 4;
  const { data, error } = useQuery(firstCopies({ condition: "broken", shape: "now", limit: some }));
  if (!error && !data?.copies.length) return null;
  return (
    <Sheet aria-label="Broken documents">
      <Head>
        <h1>Broken where they are</h1>
        {data && data.total > some && <Link to="/find?condition=broken&shape=now">all {data.total}</Link>}
      </Head>
      {error && <Failure problem={error} />}
      <List>
        {data?.copies.map((c) => (
          <li key={c.id}>
            <span>
              <Link to={`/cases/new?${placeParams(c.place)}`}>{c.name}</Link>{" "}
              <Quiet>
                of {c.person ?? "nobody known"}, {c.place.machine}, in {nameOf(parentOf(c.place))}
              </Quiet>
            </span>
            <Care>{c.condition.reasons[0]}</Care>
          </li>
        ))}
      </List>
    </Sheet>
  );
}
