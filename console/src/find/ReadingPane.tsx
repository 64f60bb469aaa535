import { useQuery } from "@tanstack/react-query";
import { Link, useNavigate } from "react-router";
import styled from "styled-components";
import type { Copy } from "../api/client";
import { origins } from "../api/queries";
import { Care, Key, Quiet } from "../parts/controls";
import { Intact } from "../parts/Intact";
import { Notice } from "../parts/Notice";
import { Peek } from "../parts/Peek";
import { PlaceText } from "../parts/PlaceText";
import { folderLink, parentOf, placeParams, trailLink } from "../places";
import { tokens } from "../theme";
import { useKey } from "../useKeys";
import { absolute, ago, bytes, expiry } from "../when";

const Facts = styled.dl`
  display: grid;
  grid-template-columns: max-content 1fr;
  gap: 2px 14px;
  margin: 10px 0 14px;
  padding-bottom: 12px;
  border-bottom: 1px solid ${tokens.rule};
  font-size: 14px;
  line-height: 20px;
  dt { color: ${tokens.quiet}; }
  dd { overflow-wrap: anywhere; }
`;

const Notes = styled.ul`
  margin: 8px 0;
  color: ${tokens.care};
`;

/** Everything about the copy that has the focus, and a look into it. */
export function ReadingPane({ copy: c }: { copy: Copy }) {
  const end = expiry(c.expires_at);
  return (
    <article aria-label={c.name}>
      <h1>{c.name}</h1>
      {c.notes.length > 0 && (
        <Notes aria-label="Notes">
          {c.notes.map((n) => (
            <li key={n}>{n}</li>
          ))}
        </Notes>
      )}
      {c.origin_known ? <Ways copy={c} /> : <Origins copy={c} />}
      <Facts>
        <dt>{c.origin_known ? "Came from" : "Lies at"}</dt>
        <dd>
          <PlaceText place={c.place} />
        </dd>
        <Fact name="Deleted" iso={c.gone_at} />
        <Fact name="Written" iso={c.written_at} />
        <Fact name="Last seen" iso={c.last_seen_at} />
        <dt>Now</dt>
        <dd>{stateSentence[c.state]}</dd>
        <dt>Kept</dt>
        <dd>
          {c.readable ? end.soon ? <Care>{end.text}</Care> : end.text : <Care>only the record is left</Care>}
          {c.readable && c.expires_at && <Quiet> · {absolute(c.expires_at)}</Quiet>}
        </dd>
        <dt>Of</dt>
        <dd>{c.person ?? "nobody known"}</dd>
        {c.type === "file" && <Condition copy={c} />}
        <dt>Size</dt>
        <dd>{bytes(c.size)}</dd>
        <dt>Found in</dt>
        <dd>
          {c.source.kind}
          {c.source.drive && ` of the drive ${c.source.drive}`}
          {c.item_of && ", inside a folder that was deleted whole"}
          {c.sealed && `, part of ${c.sealed.place.path}, which comes back whole`}
        </dd>
      </Facts>
      {c.readable ? (
        <Peek key={c.id} id={c.id} />
      ) : (
        <Notice title="There is nothing to peek at.">Look for another copy of the same name.</Notice>
      )}
    </article>
  );
}

const stateSentence = { present: "the same is there", gone: "nothing is there", changed: "something else is there" };

/** The ways from a copy to all that is known of its place. */
function Ways({ copy: c }: { copy: Copy }) {
  const navigate = useNavigate();
  const trail = c.type === "folder" ? folderLink(c.place) : trailLink(c.place);
  useKey("t", () => void navigate(trail));
  useKey("f", () => void navigate(folderLink(parentOf(c.place))));
  return (
    <p>
      <Link to={trail}>{c.type === "folder" ? "The folder over time" : "Trail"}</Link>
      <Key>t</Key> &nbsp; <Link to={folderLink(parentOf(c.place))}>The folder it lay in</Link>
      <Key>f</Key> &nbsp; <Link to={`/cases/new?${placeParams(c.place)}`}>Open a case</Link>
    </p>
  );
}

function Condition({ copy: c }: { copy: Copy }) {
  return (
    <>
      {c.intact && (
        <>
          <dt>Intact</dt>
          <dd>
            <Intact intact={c.intact} />
          </dd>
        </>
      )}
      <dt>Condition</dt>
      <dd>
        {c.condition.state} <Quiet>{c.condition.reasons.join(" ")}</Quiet>
      </dd>
    </>
  );
}

/** Where a copy without a trusted record of its origin likely came from, with the evidence. */
function Origins({ copy: c }: { copy: Copy }) {
  const { data } = useQuery(origins(c.id));
  const first = data?.origins[0];
  if (!data) return null;
  if (first) {
    return (
      <Notice title={c.claimed ? "Its record aside, it was likely:" : "Nothing recorded where it came from; it was likely:"}>
        <PlaceText place={first.place} /> {first.evidence.join(" ")}
      </Notice>
    );
  }
  if (c.claimed)
    return (
      <Notice title="Only its record tells where it came from.">
        Bring it back to a folder of your choice, or confirm the claimed place in the plan.
      </Notice>
    );
  return <Notice title="Nothing tells where it came from.">Bring it back to a folder of your choice.</Notice>;
}

function Fact({ name, iso }: { name: string; iso: string | null | undefined }) {
  if (!iso) return null;
  return (
    <>
      <dt>{name}</dt>
      <dd>
        {absolute(iso)} <Quiet>· {ago(iso)}</Quiet>
      </dd>
    </>
  );
}
