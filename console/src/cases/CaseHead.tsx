import { Link } from "react-router";
import type { Case } from "../api/client";
import { Key, Mono, Plain, Quiet } from "../parts/controls";
import { Row } from "../parts/layout";
import { Failure } from "../parts/Notice";
import { PlaceText } from "../parts/PlaceText";
import { absolute } from "../when";
import { useChange } from "./useCases";
import { hintsSaid, lossWord, stateWord, trailOf, whatOf } from "./words";

/** What a case is about. */
export function CaseHead({ of: k }: { of: Case }) {
  return (
    <header>
      <h1>
        {whatOf(k)} <Quiet>{lossWord(k.loss)}</Quiet>
      </h1>
      {k.place && <PlaceText place={k.place} />}
    </header>
  );
}

/** What a case says of itself, and what can be done with it. */
export function CaseState({ of: k }: { of: Case }) {
  const change = useChange(k.id);
  const to = (state: Case["state"]) => change.mutate({ state, version: k.version });
  return (
    <section aria-label="The case">
      <Quiet as="p">
        {k.happened && `“${k.happened}” `}
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
        <Link to={`/cases/${k.id}/change`}>Change</Link>
        {k.place && (
          <Link to={trailOf(k, k.place)}>
            Trail<Key aria-hidden>t</Key>
          </Link>
        )}
        <Quiet>
          <Key>m</Key> note
        </Quiet>
      </Row>
      {change.error && <Failure problem={change.error} />}
    </section>
  );
}
