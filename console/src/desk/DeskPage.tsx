import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import styled from "styled-components";
import type { Copy } from "../api/client";
import { cases, catalogueHealth, firstCopies } from "../api/queries";
import { CaseLine } from "../cases/CasesPage";
import { Lines } from "../cases/cases.styles";
import { useCaseEvents } from "../cases/useCases";
import { Care, Quiet, Sheet } from "../parts/controls";
import { Failure, Notice } from "../parts/Notice";
import { nameOf, parentOf, placeParams } from "../places";
import { tokens } from "../theme";
import { useNow } from "../useNow";
import { absolute, ago, expiry } from "../when";
import { Surveys } from "./Surveys";

const Page = styled.div`
  display: grid;
  grid-template-columns: minmax(0, 1.5fr) minmax(0, 1fr);
  gap: 16px;
  padding: 16px 20px;
  align-items: start;
  @media (max-width: 900px) { grid-template-columns: minmax(0, 1fr); }
`;

const Stack = styled.div`
  display: grid;
  gap: 16px;
`;

const Head = styled.div`
  display: flex;
  justify-content: space-between;
  gap: 12px;
  a { color: ${tokens.ink}; }
`;

const List = styled.ul`
  margin-top: 8px;
  li { display: flex; flex-wrap: wrap; justify-content: space-between; gap: 0 14px; padding: 6px 0; border-top: 1px solid ${tokens.faint}; }
  li > span:first-child { overflow-wrap: anywhere; }
  a { color: ${tokens.ink}; text-decoration-color: ${tokens.rule}; }
`;

const limit = 8;

export function DeskPage() {
  return (
    <Page>
      <Stack>
        <Records />
        <OpenCases />
        <DeletedLately />
      </Stack>
      <Stack>
        <Broken />
        <ExpiresSoon />
        <Surveys />
      </Stack>
    </Page>
  );
}

/** Speaks up only where the service's own records are not as they were written. */
function Records() {
  const { data } = useQuery(catalogueHealth);
  if (!data || data.state === "sound" || data.state === "checking") return null;
  return (
    <Sheet aria-label="The service’s records" role="alert">
      <h1>{data.state === "damaged" ? "The service’s own records are damaged" : "The service’s own records could not be checked"}</h1>
      <Care>{data.problem}.</Care> {data.next}
      {data.copied_at && <Quiet> Receipts and cases were last copied {absolute(data.copied_at)}.</Quiet>}
    </Sheet>
  );
}

function OpenCases() {
  useCaseEvents();
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
      <Lines>{data?.cases.map((k) => <CaseLine key={k.id} of={k} />)}</Lines>
    </Sheet>
  );
}

/** What was examined unasked and found broken where it stands. */
function Broken() {
  const some = 4;
  const { data, error } = useQuery(firstCopies({ condition: "broken", shape: "now", limit: some }));
  if (!error && !data?.copies.length) return null;
  return (
    <Sheet aria-label="Broken documents">
      <Head>
        <h1>Broken where they stand</h1>
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

function DeletedLately() {
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
      <List>{data?.copies.map((c) => <Deleted key={c.id} copy={c} />)}</List>
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

function findLink(c: Copy): string {
  return `/find?${new URLSearchParams({ words: c.name, machine: c.place.machine })}`;
}

const week = 7 * 24 * 3600_000;

function ExpiresSoon() {
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
