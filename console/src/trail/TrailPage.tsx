import { useQuery } from "@tanstack/react-query";
import { useCallback, useMemo, useState } from "react";
import { Link, useNavigate, useSearchParams } from "react-router";
import styled from "styled-components";
import type { Copy, Place, Trail } from "../api/client";
import { caseAdvice, copy as copyQuery, trail as trailQuery } from "../api/queries";
import { BringBackDialog } from "../bringback/BringBackDialog";
import { Key, Quiet } from "../parts/controls";
import { Columns, Desk, Pane, Row } from "../parts/layout";
import { Failure, Notice } from "../parts/Notice";
import { PlaceText } from "../parts/PlaceText";
import { folderLink, nameOf, parentOf, placeKey, placeOf } from "../places";
import { tokens } from "../theme";
import { useInsteadOfTray, useKey } from "../useKeys";
import { useNow } from "../useNow";
import { counted, zone } from "../when";
import { ChosenVersion, Compared, olderFirst } from "./ChosenVersion";
import { Drawing } from "./Drawing";
import { Happened } from "./Happened";
import { LossForm } from "./LossForm";
import { useBoard, useChoice } from "./useTrail";
import { useWidth } from "./useWidth";
import { verdictOf } from "./verdict";
import { Versions } from "./Versions";

const Board = styled.div`
  margin: 10px 0 14px;
  padding: 6px 0;
  border-block: 1px solid ${tokens.rule};
  outline-offset: 2px;
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

export function TrailPage() {
  const [params] = useSearchParams();
  const place = useMemo(() => placeOf(params), [params]);
  const { data, error, isPending, refetch } = useQuery(trailQuery(place));
  if (isPending) return <Notice title="Gathering what all sources know of it …" />;
  if (error) return <Failure problem={error} retry={() => void refetch()} />;
  if (data.versions.length === 0) {
    return (
      <Notice title="No capture showed anything at this place.">
        What was deleted from it may lie in a trash:{" "}
        <Link to={`/find?words=${encodeURIComponent(nameOf(place))}`}>find it by its name</Link>.
      </Notice>
    );
  }
  return <Drawn key={placeKey(place)} trail={data} place={place} />;
}

function Drawn({ trail, place }: { trail: Trail; place: Place }) {
  const now = useNow();
  const [params] = useSearchParams();
  const navigate = useNavigate();
  const [measure, width] = useWidth();
  const forCase = params.get("case");
  const { data: advice } = useQuery({ ...caseAdvice(forCase ?? ""), enabled: forCase !== null });
  const verdict = useMemo(() => advice && verdictOf(trail, advice), [trail, advice]);
  const choice = useChoice(trail, verdict?.version);
  const { version, copy, choose } = choice;
  const { data: whole } = useQuery(copyQuery(copy?.id));
  const { span, press, zoomTo } = useBoard(trail, now, choice);
  const [marked, setMarked] = useState<string[]>([]);
  const [bringing, setBringing] = useState<Copy>();
  const loss = { good: params.get("good_at") ?? advice?.good_at ?? null, noticed: params.get("noticed_at") ?? advice?.noticed_at ?? null };

  const readable = copy?.readable === true;
  const mark = useCallback(
    () => copy && setMarked((m) => (m.includes(copy.id) ? m.filter((id) => id !== copy.id) : [...m, copy.id].slice(-2))),
    [copy],
  );
  const bring = useCallback(() => setBringing(whole), [whole]);
  useKey("c", mark, readable);
  useKey("b", bring, readable);
  useKey("f", () => void navigate(folderLink(parentOf(place))));
  useInsteadOfTray(readable);
  return (
    <Columns $widths="minmax(0, 1fr) minmax(300px, 34%)">
      <Desk>
        <h1>{nameOf(place)}</h1>
        <PlaceText place={place} />
        {trail.names.length > 1 && (
          <Quiet as="div">
            Also known as{" "}
            {trail.names
              .slice(1)
              .map((n) => `${n.machine === place.machine ? "" : `${n.machine}:`}${n.path}`)
              .join(", ")}
          </Quiet>
        )}
        {forCase ? (
          <Advised>
            <Link to={`/cases/${forCase}`}>Case {forCase}</Link>
            {verdict && (
              <span>
                {verdict.version >= 0
                  ? `Advised: version ${verdict.version + 1}, copy ${verdict.copy ?? ""}. ${verdict.sentence}`
                  : verdict.sentence}
              </span>
            )}
          </Advised>
        ) : (
          <LossForm />
        )}
        <Board
          ref={measure}
          tabIndex={0}
          role="application"
          aria-label={`The trail drawn: ${counted(trail.versions.length, "version")}. Arrow keys choose; the table below says the same.`}
          onKeyDown={press}
        >
          <Drawing {...{ trail, width, span, now, version, marked, loss, choose, verdict, zoomTo }} copy={copy?.id} />
        </Board>
        <Row>
          <Quiet>
            <Key>←</Key> <Key>→</Key> versions <Key>↑</Key> <Key>↓</Key> copies <Key>Enter</Key> peek <Key>c</Key> mark <Key>+</Key>{" "}
            <Key>−</Key> <Key>z</Key> zoom <Key>0</Key> all · times are in {zone}
          </Quiet>
        </Row>
        <Row>
          <Quiet>
            Solid: proved. Hatched: assumed. Blank: nobody looked. ● a copy, ○ only its record, ■ deleted into a trash, ▾ its size broke
            from its habit, ⌇ broken, ◆ advised.
          </Quiet>
        </Row>
        <Versions {...{ trail, version, marked, choose, verdict }} copy={copy?.id} loss={loss.noticed} />
        <Happened trail={trail} loss={loss.noticed} />
      </Desk>
      <Pane id="trail-pane" tabIndex={-1} aria-label="Reading pane">
        {marked.length === 2 ? (
          <Compared marked={olderFirst(trail, marked)} clear={() => setMarked([])} />
        ) : (
          copy && <ChosenVersion {...{ trail, version, copy, whole, marked, mark, place, bring }} />
        )}
      </Pane>
      {bringing && <BringBackDialog what={{ copies: [bringing] }} close={() => setBringing(undefined)} done={() => undefined} />}
    </Columns>
  );
}
