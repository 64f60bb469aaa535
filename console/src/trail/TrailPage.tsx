import { useQuery } from "@tanstack/react-query";
import { useCallback, useMemo, useState } from "react";
import { Link, useNavigate, useSearchParams } from "react-router";
import styled from "styled-components";
import type { Copy, Place, Trail } from "../api/client";
import { caseAdvice, trail as trailQuery } from "../api/queries";
import { BringBackDialog } from "../bringback/BringBackDialog";
import { Difference } from "../parts/Difference";
import { Key, Mono, Plain, Primary, Quiet } from "../parts/controls";
import { Failure, Notice } from "../parts/Notice";
import { Peek } from "../parts/Peek";
import { PlaceText } from "../parts/PlaceText";
import { folderLink, nameOf, parentOf, placeOf } from "../places";
import { tokens } from "../theme";
import { useNow } from "../useNow";
import { absolute, counted, relative, zone } from "../when";
import { Drawing } from "./Drawing";
import { reveal, spanOf, wholeSpan, within, zoom, type Span } from "./layout";
import { LossForm } from "./LossForm";
import { useWidth } from "./useWidth";
import { verdictOf } from "./verdict";
import { Versions } from "./Versions";

const Page = styled.div`
  display: grid;
  grid-template-columns: minmax(0, 1fr) minmax(300px, 34%);
  height: 100%;
  @media (max-width: 900px) { grid-template-columns: minmax(0, 1fr); height: auto; }
`;

const Main = styled.div`
  overflow: auto;
  background: ${tokens.sheet};
  border-right: 1px solid ${tokens.faint};
  padding: 14px 20px;
  min-width: 0;
`;

const Pane = styled.section`
  overflow: auto;
  padding: 14px 20px;
  min-width: 0;
`;

const Board = styled.div`
  margin: 10px 0 14px;
  padding: 6px 0;
  border-block: 1px solid ${tokens.rule};
  outline-offset: 2px;
`;

const Row = styled.div`
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 6px 12px;
  margin: 6px 0;
`;

const Advised = styled.p`
  display: flex;
  flex-wrap: wrap;
  gap: 2px 12px;
  margin-top: 8px;
  padding-left: 10px;
  border-left: 3px solid ${tokens.advice};
  a { color: ${tokens.ink}; }
`;

const Events = styled.ul`
  margin: 12px 0;
  font-size: 14px;
  line-height: 20px;
  li { padding: 3px 0; }
`;

export function TrailPage() {
  const [params] = useSearchParams();
  const place = useMemo(() => placeOf(params), [params]);
  const { data, error, isPending, refetch } = useQuery(trailQuery(place));
  if (isPending) return <Notice title="Gathering what all sources know of it …" />;
  if (error) return <Failure problem={error} retry={() => void refetch()} />;
  if (data.versions.length === 0) {
    return (
      <Notice title="No capture showed anything at this place.">
        What was deleted from it may lie in a trash: <Link to={`/find?words=${encodeURIComponent(nameOf(place))}`}>find it by its name</Link>.
      </Notice>
    );
  }
  return <Drawn key={`${place.machine}:${place.path}`} trail={data} place={place} />;
}

/** Which version and which of its copies is looked at: the advised one first, else the last; a copy that can be read is preferred. */
function useChoice(trail: Trail, advised: number | undefined) {
  const [chosen, setVersion] = useState<number>();
  const version = chosen ?? (advised !== undefined && advised >= 0 ? advised : trail.versions.length - 1);
  const [wanted, setWanted] = useState<string>();
  const copies = trail.versions[version]?.copies ?? [];
  const copy = copies.find((c) => c.id === wanted) ?? copies.find((c) => c.readable) ?? copies[0];
  const choose = useCallback((v: number, c?: string) => {
    setVersion(v);
    setWanted(c);
  }, []);
  return { version, copies, copy, choose };
}

function Drawn({ trail, place }: { trail: Trail; place: Place }) {
  const now = useNow();
  const [params] = useSearchParams();
  const navigate = useNavigate();
  const [measure, width] = useWidth();
  const whole = useMemo(() => wholeSpan(trail, now), [trail, now]);
  const [zoomed, setZoomed] = useState<Span>();
  const span = zoomed ?? whole;
  const forCase = params.get("case");
  const { data: advice } = useQuery({ ...caseAdvice(forCase ?? ""), enabled: forCase !== null });
  const verdict = useMemo(() => advice && verdictOf(trail, advice), [trail, advice]);
  const { version, copies, copy, choose } = useChoice(trail, verdict?.version);
  const [marked, setMarked] = useState<string[]>([]);
  const [bringing, setBringing] = useState<Copy>();
  const loss = { good: params.get("good_at") ?? advice?.good_at ?? null, noticed: params.get("noticed_at") ?? advice?.noticed_at ?? null };

  const mark = () => copy?.readable && setMarked((m) => (m.includes(copy.id) ? m.filter((id) => id !== copy.id) : [...m, copy.id].slice(-2)));
  const go = (to: number) => {
    const v = trail.versions[to];
    if (!v) return;
    choose(to);
    setZoomed((s) => s && reveal(s, whole, new Date(v.arrived_at).getTime()));
  };
  const around = () => {
    const v = trail.versions[version];
    const at = v ? new Date(v.arrived_at).getTime() : now;
    return at >= span.from && at <= span.to ? at : (span.from + span.to) / 2;
  };
  const step = (by: number) => choose(version, copies[(copies.findIndex((c) => c.id === copy?.id) + by + copies.length) % copies.length]?.id);
  const keys: Record<string, () => void> = {
    ArrowLeft: () => go(version - 1),
    ArrowRight: () => go(version + 1),
    Home: () => go(0),
    End: () => go(trail.versions.length - 1),
    ArrowUp: () => step(-1),
    ArrowDown: () => step(1),
    Enter: () => document.getElementById("trail-pane")?.focus(),
    c: mark,
    b: () => copy?.readable && setBringing(copy),
    "+": () => setZoomed(zoom(span, whole, around(), 2)),
    "=": () => setZoomed(zoom(span, whole, around(), 2)),
    "-": () => setZoomed(zoom(span, whole, around(), 0.5)),
    "0": () => setZoomed(undefined),
    z: () => trail.versions[version] && setZoomed(spanOf(trail.versions[version], whole, now)),
    f: () => void navigate(folderLink(parentOf(place))),
  };
  const press = (e: React.KeyboardEvent) => {
    const act = e.ctrlKey || e.metaKey || e.altKey ? undefined : keys[e.key];
    if (!act) return;
    e.preventDefault();
    act();
  };
  return (
    <Page>
      <Main>
        <h1>{nameOf(place)}</h1>
        <PlaceText place={place} />
        {trail.names.length > 1 && (
          <Quiet as="div">
            Also known as {trail.names.slice(1).map((n) => `${n.machine === place.machine ? "" : `${n.machine}:`}${n.path}`).join(", ")}
          </Quiet>
        )}
        {forCase ? (
          <Advised>
            <Link to={`/cases/${forCase}`}>Case {forCase}</Link>
            {verdict && <span>{verdict.version >= 0 ? `Advised: version ${verdict.version + 1}, copy ${verdict.copy ?? ""}. ${verdict.sentence}` : verdict.sentence}</span>}
          </Advised>
        ) : (
          <LossForm />
        )}
        <Board ref={measure} tabIndex={0} role="application" aria-label={`The trail drawn: ${counted(trail.versions.length, "version")}. Arrow keys choose; the table below says the same.`} onKeyDown={press}>
          <Drawing {...{ trail, width, span, now, version, marked, loss, choose, verdict }} copy={copy?.id} zoomTo={(s) => setZoomed(within(s, whole))} />
        </Board>
        <Row>
          <Quiet>
            <Key>←</Key> <Key>→</Key> versions <Key>↑</Key> <Key>↓</Key> copies <Key>Enter</Key> peek <Key>c</Key> mark <Key>+</Key> <Key>−</Key> <Key>z</Key> zoom <Key>0</Key> all · times are in {zone}
          </Quiet>
        </Row>
        <Row>
          <Quiet>Solid: proved. Hatched: assumed. Blank: nobody looked. ● a copy, ○ only its record, ■ deleted into a trash, ▾ its size broke from its habit, ⌇ broken, ◆ advised.</Quiet>
        </Row>
        <Versions {...{ trail, version, marked, choose, verdict }} copy={copy?.id} loss={loss.noticed} />
        <Happened trail={trail} loss={loss.noticed} />
      </Main>
      <Pane id="trail-pane" tabIndex={-1} aria-label="Reading pane">
        {marked.length === 2 ? <Compared marked={olderFirst(trail, marked)} clear={() => setMarked([])} /> : copy && <Chosen {...{ trail, version, copy, marked, mark, place }} bring={() => setBringing(copy)} />}
      </Pane>
      {bringing && <BringBackDialog what={{ copies: [bringing] }} close={() => setBringing(undefined)} done={() => undefined} />}
    </Page>
  );
}

/** Two copies in the order of their versions. */
function olderFirst(trail: Trail, marked: string[]): string[] {
  const versionOf = (id: string) => trail.versions.findIndex((v) => v.copies.some((c) => c.id === id));
  return [...marked].sort((a, b) => versionOf(a) - versionOf(b));
}

function Happened({ trail, loss }: { trail: Trail; loss: string | null }) {
  if (trail.events.length + trail.notes.length === 0) return null;
  return (
    <Events aria-label="What happened">
      {trail.events.map((e, i) => (
        <li key={i}>
          <Quiet>
            {e.after ? `between ${absolute(e.after)} and ` : ""}
            {absolute(e.at)} · {relative(e.at, loss)}
          </Quiet>
          <div>{e.text}</div>
        </li>
      ))}
      {trail.notes.map((n) => (
        <li key={n}>{n}</li>
      ))}
    </Events>
  );
}

function Compared({ marked, clear }: { marked: string[]; clear: () => void }) {
  const [left, right] = marked;
  return (
    <>
      <Row>
        <h1>Compared</h1>
        <Plain onPress={clear}>Done comparing</Plain>
      </Row>
      {left && right && <Difference left={left} right={right} />}
    </>
  );
}

interface ChosenProps {
  trail: Trail;
  version: number;
  copy: Copy;
  marked: string[];
  mark: () => void;
  bring: () => void;
  place: Place;
}

function Chosen({ trail, version, copy, marked, mark, bring, place }: ChosenProps) {
  const [now, setNow] = useState<string>(); // the copy that is compared with what stands there
  const v = trail.versions[version];
  if (!v) return null;
  const live = trail.lanes.find((l) => l.source.id === copy.source.id)?.live;
  return (
    <article aria-label={`Version ${version + 1}`}>
      <h1>
        Version {version + 1} of {trail.versions.length}
      </h1>
      <p>
        {absolute(v.arrived_at)} to {v.superseded_at ? absolute(v.superseded_at) : "now"}
        {v.superseded_at && v.last_seen_at < v.superseded_at && <Quiet>, assumed after {absolute(v.last_seen_at)}</Quiet>}
      </p>
      <p>
        <Quiet>
          Copy <Mono>{copy.id}</Mono> from {copy.source.kind}, at <Mono>{copy.lies_at.machine}:{copy.lies_at.path}</Mono>
        </Quiet>
      </p>
      <Row>
        {v.current && <Quiet>It stands there now.</Quiet>}
        {!live && !v.current && (
          <Primary isDisabled={!copy.readable} onPress={bring}>
            Bring back …<Key>b</Key>
          </Primary>
        )}
        <Plain isDisabled={!copy.readable} onPress={mark}>
          {marked.includes(copy.id) ? "Unmark" : marked.length ? "Compare with the marked one" : "Mark to compare"}
          <Key>c</Key>
        </Plain>
        {!live && !v.current && copy.readable && <Plain onPress={() => setNow(now === copy.id ? undefined : copy.id)}>{now === copy.id ? "Peek" : "Compare with now"}</Plain>}
        <Link to={folderLink(parentOf(place))}>Its folder</Link>
      </Row>
      {!copy.readable && <Notice title="Only the record of this version is left." />}
      {copy.readable && (now === copy.id ? <Difference left={copy.id} right="now" /> : <Peek key={copy.id} id={copy.id} />)}
    </article>
  );
}
