import { useQuery } from "@tanstack/react-query";
import { Fragment, useEffect, useMemo, useRef, useState } from "react";
import { Link, useNavigate, useSearchParams } from "react-router";
import styled from "styled-components";
import type { Folder, FolderEntry, Only, Place } from "../api/client";
import { folder as folderQuery } from "../api/queries";
import { BringBackDialog } from "../bringback/BringBackDialog";
import { Key, Mono, Plain, Primary, Quiet } from "../parts/controls";
import { Failure, Notice } from "../parts/Notice";
import { Peek } from "../parts/Peek";
import { folderLink, placeOf, placeParams, trailLink } from "../places";
import { tokens } from "../theme";
import { useWidth } from "../trail/useWidth";
import { useKey } from "../useKeys";
import { absolute, ago, bytes, counted, zone } from "../when";
import { chosenMoment, partRows, visibleColumns } from "./columns";
import { fitOf, Grid, GridHead, nameWidthOf } from "./Grid";

const Page = styled.div`
  display: grid;
  grid-template-columns: minmax(0, 1fr) minmax(280px, 30%);
  height: 100%;
  @media (max-width: 900px) { grid-template-columns: minmax(0, 1fr); height: auto; }
`;

const Main = styled.div`
  display: flex;
  flex-direction: column;
  min-width: 0;
  min-height: 0;
  background: ${tokens.sheet};
  border-right: 1px solid ${tokens.faint};
  padding: 14px 20px;
`;

const Pane = styled.section`
  overflow: auto;
  padding: 14px 20px;
`;

const Row = styled.div`
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 6px 12px;
  margin: 6px 0;
`;

const Crumbs = styled.nav`
  overflow-wrap: anywhere;
  a { color: ${tokens.quiet}; }
`;

export function FolderPage() {
  const [params] = useSearchParams();
  const place = useMemo(() => placeOf(params), [params]);
  const asOf = params.get("as_of") ?? undefined;
  const { data, error, isPending, refetch } = useQuery(folderQuery(place, asOf));
  if (isPending) return <Notice title="Putting the folder together from all sources …" />;
  if (error) return <Failure problem={error} retry={() => void refetch()} />;
  return <Shown key={`${place.machine}:${place.path}`} folder={data} place={place} asOf={asOf} />;
}

function Shown({ folder, place, asOf }: { folder: Folder; place: Place; asOf: string | undefined }) {
  const [params, setParams] = useSearchParams();
  const navigate = useNavigate();
  const [measure, width] = useWidth();
  const [row, setRow] = useState(0);
  const [all, setAll] = useState(false);
  const [only, setOnly] = useState<Only>();
  const { moving, still } = useMemo(() => partRows(folder.rows), [folder.rows]);
  const rows = all || moving.length === 0 ? folder.rows : moving;
  const chosen = chosenMoment(folder.moments, asOf);
  const columns = visibleColumns(folder.moments.length, fitOf(width), chosen);
  const entry = folder.entries.find((e) => e.name === rows[row]?.name);

  // Keys may come faster than the page is drawn: each goes on from where the last one went.
  const latest = useRef(chosen);
  useEffect(() => {
    latest.current = chosen;
  }, [chosen]);
  const pick = (moment: number) => {
    latest.current = moment;
    const next = new URLSearchParams(params);
    const m = folder.moments[moment];
    if (m) next.set("as_of", m.at);
    else next.delete("as_of");
    setParams(next, { replace: true });
  };
  const enter = (index: number) => {
    const r = rows[index];
    const found = folder.entries.find((e) => e.name === r?.name);
    if (!r) return;
    const to = found?.path ?? { machine: place.machine, path: `${place.path === "/" ? "" : place.path}/${r.name}` };
    if ((found?.type ?? r.type) !== "folder") return void navigate(trailLink(to));
    const next = placeParams(to);
    if (asOf) next.set("as_of", asOf);
    void navigate(`/folder?${next}`);
  };
  const keys: Record<string, () => void> = {
    ArrowLeft: () => pick(Math.max(0, latest.current - 1)),
    ArrowRight: () => pick(Math.min(folder.moments.length, latest.current + 1)),
    Home: () => pick(0),
    End: () => pick(folder.moments.length),
    ArrowUp: () => setRow((r) => Math.max(0, r - 1)),
    ArrowDown: () => setRow((r) => Math.min(rows.length - 1, r + 1)),
    Enter: () => enter(row),
  };
  const press = (e: React.KeyboardEvent) => {
    const act = e.ctrlKey || e.metaKey || e.altKey ? undefined : keys[e.key];
    if (!act || !(e.target as HTMLElement).closest("#folder-grid")) return;
    e.preventDefault();
    act();
  };
  useKey("m", () => setOnly("missing"), asOf !== undefined && !only);
  return (
    <Page>
      <Main ref={measure} onKeyDown={press}>
        <Head place={place} folder={folder} asOf={asOf} chosen={chosen} pick={pick} />
        {asOf && <Actions folder={folder} bring={setOnly} />}
        <GridHead {...{ folder, columns, chosen }} nameWidth={nameWidthOf(width)} />
        <Grid {...{ rows, folder, columns, chosen, row, pick }} nameWidth={nameWidthOf(width)} choose={setRow} open={enter} />
        <Row>
          {still.length > 0 && moving.length > 0 && (
            <Plain onPress={() => setAll(!all)}>{all ? "Fold what never changed" : `${counted(still.length, "entry", "entries")} never changed; show`}</Plain>
          )}
          <Quiet>
            <Key>←</Key> <Key>→</Key> moments <Key>↑</Key> <Key>↓</Key> entries <Key>Enter</Key> opens · ■ new content, · as before, → moved · {zone}
          </Quiet>
        </Row>
      </Main>
      <Pane aria-label="Reading pane">{entry ? <Chosen key={entry.path.path} entry={entry} asOf={asOf} /> : <NotThen name={rows[row]?.name} place={place} />}</Pane>
      {only && asOf && <BringBackDialog what={{ place, as_of: asOf, only }} close={() => setOnly(undefined)} done={() => undefined} />}
    </Page>
  );
}

function Head({ place, folder, asOf, chosen, pick }: { place: Place; folder: Folder; asOf: string | undefined; chosen: number; pick: (m: number) => void }) {
  const parts = place.path.split("/").filter(Boolean);
  const moment = folder.moments[chosen];
  const suffix = asOf ? `&as_of=${encodeURIComponent(asOf)}` : "";
  return (
    <>
      <Crumbs aria-label="Folders above">
        {place.machine}
        {parts.slice(0, -1).map((p, i) => (
          <Fragment key={i}>
            /<wbr />
            <Link to={folderLink({ machine: place.machine, path: `/${parts.slice(0, i + 1).join("/")}` }) + suffix}>{p}</Link>
          </Fragment>
        ))}
        /
      </Crumbs>
      <h1>{parts.at(-1) ?? "/"}</h1>
      {folder.was && <Quiet>It was {folder.was.path} before, and what was in that counts as in this.</Quiet>}
      <Row>
        <Plain isDisabled={chosen === 0} onPress={() => pick(chosen - 1)} aria-label="Earlier moment">
          ←
        </Plain>
        <Plain isDisabled={!asOf} onPress={() => pick(chosen + 1)} aria-label="Later moment">
          →
        </Plain>
        <strong role="status">
          {asOf ? `As of ${absolute(asOf)}` : "Now"}
          {asOf && <Quiet> · {ago(asOf)}</Quiet>}
        </strong>
        <Quiet>
          {asOf && moment ? `${counted(moment.changed, "entry", "entries")} changed then · ` : ""}
          moment {Math.min(chosen + 1, folder.moments.length)} of {folder.moments.length}
        </Quiet>
      </Row>
    </>
  );
}

/** What can be brought back. The plan looks at what really stands there, so it is offered whatever the last survey saw. */
function Actions({ folder, bring }: { folder: Folder; bring: (only: Only) => void }) {
  return (
    <>
      <p>
        Against now: {folder.missing} missing, {folder.changed} changed, {folder.moved} moved, {folder.added} came later, {folder.same} the same.
      </p>
      <Row>
        <Primary onPress={() => bring("missing")}>
          Bring back what is missing …<Key>m</Key>
        </Primary>
        <Plain onPress={() => bring("changed")}>
          Missing and changed …
        </Plain>
        <Plain onPress={() => bring("exact")}>
          Exactly as it was …
        </Plain>
      </Row>
    </>
  );
}

function Chosen({ entry: e, asOf }: { entry: FolderEntry; asOf: string | undefined }) {
  return (
    <article aria-label={e.name}>
      <h1>{e.name}</h1>
      <p>
        {sentences[e.state]}
        {e.moved_to && ` It is now ${e.moved_to}.`} {!e.proved && asOf && "Assumed: nobody looked between."}
      </p>
      {e.type !== "folder" && (
        <p>
          <Quiet>
            {bytes(e.size)} {e.written_at && `· written ${absolute(e.written_at)}`} {e.copy && <Mono>· {e.copy}</Mono>}
          </Quiet>
        </p>
      )}
      <Row>
        <Link to={e.type === "folder" ? folderLink(e.path) + (asOf ? `&as_of=${encodeURIComponent(asOf)}` : "") : trailLink(e.path)}>{e.type === "folder" ? "Open the folder" : "Its trail"}</Link>
      </Row>
      {e.copy && e.type !== "folder" && <Peek key={e.copy} id={e.copy} />}
      {!e.copy && e.state !== "added" && <Notice title="Only the record of it is left." />}
    </article>
  );
}

const sentences: Record<FolderEntry["state"], string> = {
  same: "It stands unchanged now.",
  changed: "Something else stands there now.",
  missing: "It is no longer there now.",
  added: "It was not there at that moment.",
  moved: "It is elsewhere now.",
};

function NotThen({ name, place }: { name: string | undefined; place: Place }) {
  if (!name) return null;
  return (
    <Notice title={`${name} was not there at that moment, and is not there now.`}>
      <Link to={trailLink({ machine: place.machine, path: `${place.path}/${name}` })}>Its trail</Link> says when it was.
    </Notice>
  );
}
