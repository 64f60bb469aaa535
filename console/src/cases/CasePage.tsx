import { useQuery } from "@tanstack/react-query";
import { useCallback, useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import type { Advice, Case, Copy, Place } from "../api/client";
import { caseAdvice, caseOf, copy } from "../api/queries";
import { BringBackDialog } from "../bringback/BringBackDialog";
import { Difference } from "../parts/Difference";
import { Key, Mono, Plain, Quiet } from "../parts/controls";
import { Failure, Notice } from "../parts/Notice";
import { Peek } from "../parts/Peek";
import { PlaceText } from "../parts/PlaceText";
import { placeParams } from "../places";
import { useKey } from "../useKeys";
import { absolute } from "../when";
import { AdvicePart } from "./AdvicePart";
import { LogPart, ReportPart } from "./DonePart";
import { FirstAidPart } from "./FirstAidPart";
import { Looked } from "./Looked";
import { Lines, Log, Pane, Part, Row, Split } from "./cases.styles";
import { useAdd, useCaseEvents, useChange } from "./useCases";
import { hintsSaid, lossWord, stateWord, whatOf } from "./words";

/** One request for help, from first aid to the report, in the order of the work. */
export function CasePage() {
  const { id = "" } = useParams();
  useCaseEvents();
  const { data, error, isPending, refetch } = useQuery(caseOf(id));
  if (isPending) return <Notice title="Reading the case …" />;
  if (error) return <Failure problem={error} retry={() => void refetch()} />;
  return <Worked key={id} of={data} />;
}

type Look = "peek" | "compare";

function Worked({ of: k }: { of: Case }) {
  const advice = useQuery(caseAdvice(k.id));
  const [wanted, setWanted] = useState<Copy>();
  const [file, setFile] = useState<string>(); // of a folder
  const [look, setLook] = useState<Look>("peek");
  const [bringing, setBringing] = useState(false);
  const add = useAdd(k.id);
  const navigate = useNavigate();
  const recommended = advice.data?.recommended ?? undefined;
  const { data: fileCopy } = useQuery(copy(file));
  const chosen = wanted ?? recommended?.copy ?? (file ? fileCopy : undefined);
  const canBring = advice.data !== undefined && (wanted ? wanted.readable : recommended !== undefined && !recommended.standing);

  const show = useCallback((as: Look) => {
    setLook(as);
    document.getElementById("case-pane")?.focus();
  }, []);
  const peek = useCallback(() => show("peek"), [show]);
  const compare = useCallback(() => show("compare"), [show]);
  const bring = useCallback(() => setBringing(true), []);
  const wrong = useCallback(() => {
    if (!chosen) return;
    add.mutate({ kind: "wrong", ref: chosen.id }, { onSuccess: () => (setWanted(undefined), setFile(undefined)) });
  }, [add, chosen]);
  const note = useCallback(() => document.getElementById("case-note")?.focus(), []);
  const trail = useCallback(() => k.place && void navigate(trailOf(k, k.place)), [k, navigate]);
  useKey("b", bring, canBring);
  useKey("p", peek, chosen !== undefined);
  useKey("c", compare, chosen !== undefined);
  useKey("x", wrong, chosen !== undefined);
  useKey("m", note);
  useKey("t", trail, k.place !== null);
  const choose = (copy: Copy) => {
    setWanted(copy);
    setLook("peek");
  };
  const read = (id: string) => {
    setWanted(undefined);
    setFile(id);
    show("peek");
  };
  return (
    <Split>
      <Log>
        <Head of={k} />
        <FirstAidPart id={k.id} />
        {advice.isPending && <Notice title="Examining what the sources hold …" />}
        {advice.error && <Candidates of={k} retry={() => void advice.refetch()} problem={advice.error} />}
        {advice.data && (
          <>
            <Looked advice={advice.data} />
            <AdvicePart of={k} advice={advice.data} chosen={chosen} {...{ bring, peek, compare, wrong, choose, read }} />
          </>
        )}
        {add.error && <Failure problem={add.error} />}
        <ReportPart of={k} />
        <LogPart of={k} />
      </Log>
      <Pane id="case-pane" tabIndex={-1} aria-label="Reading pane">
        {chosen ? <Read copy={chosen} look={look} setLook={setLook} at={(!advice.data?.folder && k.place) || undefined} keep={() => add.mutate({ kind: "copy", ref: chosen.id })} /> : <Notice title="Nothing to read yet.">{advice.data?.folder ? "Choose a file of the folder to peek at the copy that would come back." : "What is advised can be peeked at here."}</Notice>}
      </Pane>
      {bringing && <BringBackDialog what={{ case: k.id, chosen: wanted ? [wanted] : [], files: filesOf(advice.data, wanted) }} rule={advice.data?.folder ? "set-aside" : "keep-both"} close={() => setBringing(false)} done={() => undefined} />}
    </Split>
  );
}

const filesOf = (a: Advice | undefined, wanted: Copy | undefined) => (wanted || !a?.folder || a.recommended?.copy ? 1 : a.folder.certain + a.folder.assumed);

const trailOf = (k: Case, place: Place) => {
  const params = placeParams(place);
  params.set("case", k.id);
  return `/trail?${params}`;
};

function Head({ of: k }: { of: Case }) {
  const change = useChange(k.id);
  const to = (state: Case["state"]) => change.mutate({ state, version: k.version });
  return (
    <header>
      <h1>
        {whatOf(k)} <Quiet>{lossWord(k.loss)}</Quiet>
      </h1>
      {k.place && <PlaceText place={k.place} />}
      {k.happened && <p>“{k.happened}”</p>}
      <Quiet as="p">
        Case <Mono>{k.id}</Mono>, {stateWord[k.state]}
        {k.person && `, for ${k.person}`}, opened {absolute(k.opened_at)} by {k.opened_by}
        {k.good_at && `; last right ${absolute(k.good_at)}`}
        {k.noticed_at && `; noticed ${absolute(k.noticed_at)}`}
        {k.hints && hintsSaid(k.hints)}
      </Quiet>
      <Row>
        {k.state !== "waiting" && <Plain onPress={() => to("waiting")}>Waits for the user</Plain>}
        {k.state !== "done" && <Plain onPress={() => to("done")}>Done</Plain>}
        {k.state !== "open" && <Plain onPress={() => to("open")}>Goes on</Plain>}
        <Link to={`/cases/${k.id}/change`}>Change what it says</Link>
        {k.place && (
          <Link to={trailOf(k, k.place)}>
            Its trail<Key aria-hidden>t</Key>
          </Link>
        )}
        <Quiet>
          <Key>m</Key> note
        </Quiet>
      </Row>
      {change.error && <Failure problem={change.error} />}
    </header>
  );
}

/** Where words fit several places, or none, the technician says which is meant. */
function Candidates({ of: k, problem, retry }: { of: Case; problem: Parameters<typeof Failure>[0]["problem"]; retry: () => void }) {
  const change = useChange(k.id);
  if (k.place || !k.candidates?.length) return <Failure problem={problem} retry={retry} />;
  return (
    <Part aria-label="Which one is it">
      <h2>Which one is it?</h2>
      <Lines>
        {k.candidates.map((p) => (
          <li key={p.machine + p.path}>
            <PlaceText place={p} />
            <Plain onPress={() => change.mutate({ place: p, version: k.version })}>This one</Plain>
          </li>
        ))}
      </Lines>
      {change.error && <Failure problem={change.error} />}
    </Part>
  );
}

function Read({ copy, look, setLook, at, keep }: { copy: Copy; look: Look; setLook: (look: Look) => void; at: Place | undefined; keep: () => void }) {
  return (
    <article aria-label={`Copy ${copy.id}`}>
      <Row>
        <h1>{copy.name}</h1>
        {look === "compare" ? <Plain onPress={() => setLook("peek")}>Peek</Plain> : <Plain onPress={() => setLook("compare")}>Compare with now</Plain>}
        <Plain onPress={keep}>Put it into the case</Plain>
      </Row>
      <Quiet as="p">
        Copy <Mono>{copy.id}</Mono> from {copy.source.kind}, at <Mono>{copy.lies_at.machine}:{copy.lies_at.path}</Mono>
      </Quiet>
      {copy.condition.reasons.length > 0 && (
        <p>
          {copy.condition.state}: <Quiet>{copy.condition.reasons.join(" ")}</Quiet>
        </p>
      )}
      {look === "compare" ? <Difference left={copy.id} right="now" at={at} /> : <Peek id={copy.id} />}
    </article>
  );
}
