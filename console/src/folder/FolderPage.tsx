import { useInfiniteQuery } from "@tanstack/react-query";
import { useCallback, useEffect, useMemo, useRef, useState } from "react";
import { Link, useNavigate, useSearchParams } from "react-router";
import styled from "styled-components";
import type { Folder, Only, Place } from "../api/client";
import { folder as folderQuery } from "../api/queries";
import { BringBackDialog } from "../bringback/BringBackDialog";
import { Key, Plain, Quiet } from "../parts/controls";
import { Columns, Desk, Pane, Row } from "../parts/layout";
import { Failure, Notice } from "../parts/Notice";
import { folderLink, placeKey, placeOf, trailLink } from "../places";
import { useWidth } from "../trail/useWidth";
import { useKey } from "../useKeys";
import { counted, zone } from "../when";
import { fitOf, nameWidthOf } from "./Cells";
import { ChosenEntry, NotThen } from "./ChosenEntry";
import { chosenMoment, partRows, visibleColumns } from "./columns";
import { Actions, FolderHead } from "./FolderHead";
import { Grid, type More } from "./Grid";
import { joined } from "./pages";

const Work = styled(Desk)`
  display: flex;
  flex-direction: column;
  min-height: 0;
  overflow: visible;
`;

export function FolderPage() {
  const [params] = useSearchParams();
  const place = useMemo(() => placeOf(params), [params]);
  const asOf = params.get("as_of") ?? undefined;
  const { data, error, refetch, hasNextPage, fetchNextPage, isFetchingNextPage } = useInfiniteQuery(folderQuery(place, asOf));
  const folder = useMemo(() => joined(data?.pages ?? []), [data]);
  const more = useMemo<More>(
    () => ({ left: hasNextPage, loading: isFetchingNextPage, load: () => void fetchNextPage() }),
    [hasNextPage, isFetchingNextPage, fetchNextPage],
  );
  if (error && !folder) return <Failure problem={error} retry={() => void refetch()} />;
  if (!folder) return <Notice title="Putting the folder together from all sources …" />;
  return (
    <>
      {error && <Failure problem={error} retry={more.load} />}
      <Shown key={placeKey(place)} folder={folder} more={more} place={place} asOf={asOf} />
    </>
  );
}

/** The moment that is shown, and how another one is. */
function useMoment(folder: Folder, asOf: string | undefined) {
  const [params, setParams] = useSearchParams();
  const chosen = chosenMoment(folder.moments, asOf);
  // Keys may come faster than the page is drawn: each goes on from where the last one went.
  const latest = useRef(chosen);
  useEffect(() => {
    latest.current = chosen;
  }, [chosen]);
  const { moments } = folder;
  const pick = useCallback(
    (moment: number) => {
      latest.current = Math.min(Math.max(0, moment), moments.length);
      const next = new URLSearchParams(params);
      const m = moments[latest.current];
      if (m) next.set("as_of", m.at);
      else next.delete("as_of");
      setParams(next, { replace: true });
    },
    [params, setParams, moments],
  );
  return { chosen, pick, step: (by: number) => pick(latest.current + by) };
}

interface ShownProps {
  folder: Folder; // as much of it as is loaded
  more: More;
  place: Place;
  asOf: string | undefined;
}

function Shown({ folder, more, place, asOf }: ShownProps) {
  const navigate = useNavigate();
  const [measure, width] = useWidth();
  const [name, setName] = useState<string>();
  const [all, setAll] = useState(false);
  const [only, setOnly] = useState<Only>();
  const { moving, still } = useMemo(() => partRows(folder.rows), [folder.rows]);
  const rows = all || more.left || moving.length === 0 ? folder.rows : moving; // what is not loaded can not be parted
  const { chosen, pick, step } = useMoment(folder, asOf);
  // Rows are drawn anew only where these are others.
  const [from, to] = visibleColumns(folder.moments.length, fitOf(width), chosen);
  const columns = useMemo<[number, number]>(() => [from, to], [from, to]);
  const row = rows.find((r) => r.name === name) ?? rows[0];
  const entry = folder.entries.find((e) => e.name === row?.name);

  const open = (of: string) => {
    const r = rows.find((each) => each.name === of);
    if (!r) return;
    const type = folder.entries.find((e) => e.name === of)?.type ?? r.type;
    void navigate(type === "folder" ? folderLink(r.path, asOf) : trailLink(r.path));
  };
  const moments: Record<string, () => void> = {
    ArrowLeft: () => step(-1),
    ArrowRight: () => step(1),
    Home: () => pick(0),
    End: () => pick(folder.moments.length),
  };
  // Before the table takes them: moments are not cells to go to, they are when all of it is shown.
  const press = (e: React.KeyboardEvent) => {
    const act = e.ctrlKey || e.metaKey || e.altKey ? undefined : moments[e.key];
    if (!act) return;
    e.preventDefault();
    e.stopPropagation();
    act();
  };
  useKey("m", () => setOnly("missing"), asOf !== undefined && !only);
  return (
    <Columns $widths="minmax(0, 1fr) minmax(280px, 30%)">
      <Work ref={measure}>
        <FolderHead {...{ place, folder, asOf, chosen, pick }} />
        {asOf && <Actions folder={folder} part={more.left} bring={setOnly} />}
        <Keyed onKeyDownCapture={press}>
          <Grid {...{ rows, folder, more, columns, chosen, pick, open }} row={row?.name} nameWidth={nameWidthOf(width)} choose={setName} />
        </Keyed>
        <Row>
          {!more.left && still.length > 0 && moving.length > 0 && (
            <Plain onPress={() => setAll(!all)}>
              {all ? "Fold what never changed" : `${counted(still.length, "entry", "entries")} never changed; show`}
            </Plain>
          )}
          {more.left && (
            <Quiet role="status">
              {counted(folder.rows.length, "entry", "entries")} so far; more come when you go on, or{" "}
              <Link to={`/find?under=${encodeURIComponent(place.path)}`}>find one by its name</Link>.
            </Quiet>
          )}
          <Quiet>
            <Key>←</Key> <Key>→</Key> moments <Key>↑</Key> <Key>↓</Key> entries <Key>Enter</Key> opens · ■ new content, · as before, → moved
            · {zone}
          </Quiet>
        </Row>
      </Work>
      <Pane aria-label="Reading pane">
        {entry ? <ChosenEntry key={placeKey(entry.path)} entry={entry} asOf={asOf} /> : row && <NotThen row={row} />}
      </Pane>
      {only && asOf && <BringBackDialog what={{ place, as_of: asOf, only }} close={() => setOnly(undefined)} done={() => undefined} />}
    </Columns>
  );
}

const Keyed = styled.div`
  flex: 1;
  min-height: 160px;
  display: flex;
`;
