import { useState } from "react";
import { Link } from "react-router";
import type { Copy, Place, Trail, TrailMark, TrailVersion } from "../api/client";
import { CopyLine } from "../parts/CopyLine";
import { Key, Plain, Primary, Quiet } from "../parts/controls";
import { Difference } from "../parts/Difference";
import { Row } from "../parts/layout";
import { Notice } from "../parts/Notice";
import { Peek } from "../parts/Peek";
import { folderLink, parentOf } from "../places";
import { Allowed } from "../useRight";
import { absolute } from "../when";
import { marksOf } from "./layout";
import { Said } from "./Versions";

interface Props {
  trail: Trail;
  version: number;
  copy: TrailMark;
  whole: Copy | undefined; // until it is loaded
  marked: string[];
  mark: () => void;
  bring: () => void;
  place: Place;
}

/** A version, and a look at the copy of it that is chosen. */
export function ChosenVersion({ trail, version, copy, whole, marked, mark, bring, place }: Props) {
  const [now, setNow] = useState<string>(); // the copy that is compared with what is there
  const v = trail.versions[version];
  if (!v) return null;
  const live = trail.lanes[copy.lane]?.live;
  return (
    <article aria-label={`Version ${version + 1}`}>
      <h1>
        Version {version + 1} of {trail.versions.length}
      </h1>
      {v.author && <Said v={v} />}
      <p>
        {v.beside ? `Recorded ${absolute(v.arrived_at)}, beside the line` : span(v)}
        {!v.beside && v.superseded_at && v.last_seen_at < v.superseded_at && <Quiet>, assumed after {absolute(v.last_seen_at)}</Quiet>}
      </p>
      <p>{whole ? <CopyLine copy={whole} /> : <Quiet>Copy {copy.id} …</Quiet>}</p>
      <Row>
        {v.current && <Quiet>It is there now.</Quiet>}
        {!live && !v.current && (
          <Allowed right="bring-back">
            <Primary isDisabled={!copy.readable} onPress={bring}>
              Bring back …<Key>b</Key>
            </Primary>
          </Allowed>
        )}
        <Plain isDisabled={!copy.readable} onPress={mark}>
          {marked.includes(copy.id) ? "Unmark" : marked.length ? "Compare with the marked one" : "Mark to compare"}
          <Key>c</Key>
        </Plain>
        {!live && !v.current && copy.readable && (
          <Plain onPress={() => setNow(now === copy.id ? undefined : copy.id)}>{now === copy.id ? "Peek" : "Compare with now"}</Plain>
        )}
        <Link to={folderLink(parentOf(place))}>Its folder</Link>
      </Row>
      {!copy.readable && <Notice title="Only the record of this version is left." />}
      {copy.readable && (now === copy.id ? <Difference left={copy.id} right="now" /> : <Peek key={copy.id} id={copy.id} />)}
    </article>
  );
}

const span = (v: TrailVersion) => `${absolute(v.arrived_at)} to ${v.superseded_at ? absolute(v.superseded_at) : "now"}`;

/** Two versions against each other. */
export function Compared({ marked, clear }: { marked: string[]; clear: () => void }) {
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

/** Two copies in the order of their versions. */
export function olderFirst(trail: Trail, marked: string[]): string[] {
  const versionOf = (id: string) => trail.versions.findIndex((v) => marksOf(v).some((c) => c.id === id));
  return [...marked].sort((a, b) => versionOf(a) - versionOf(b));
}
