import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { cases } from "../api/queries";
import { CaseLine } from "../cases/CasesPage";
import { Lines } from "../cases/cases.styles";
import { Sheet } from "../parts/controls";
import { Failure, Notice } from "../parts/Notice";
import { Head, limit } from "./desk.styles";

export function OpenCases() {
  const { data, error } = useQuery(cases({ state: "open", limit }));
  return (
    <Sheet aria-label="Open cases">
      <Head>
        <h1>Open cases</h1>
        <span>
          <Link to="/cases/new">open one</Link> · <Link to="/cases">all of them</Link>
        </span>
      </Head>
      {error && <Failure problem={error} />}
      {data?.cases.length === 0 && <Notice title="Nobody waits for help." />}
      <Lines>
        {data?.cases.map((k) => (
          <CaseLine key={k.id} of={k} />
        ))}
      </Lines>
    </Sheet>
  );
}
