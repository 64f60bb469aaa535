import type { Case, Problem } from "../api/client";
import { Plain } from "../parts/controls";
import { Failure } from "../parts/Notice";
import { PlaceText } from "../parts/PlaceText";
import { placeKey } from "../places";
import { Lines, Part } from "./cases.styles";
import { useChange } from "./useCases";

/** Where words fit several places, or none, the technician says which is meant. */
export function Candidates({ of: k, problem, retry }: { of: Case; problem: Problem; retry: () => void }) {
  const change = useChange(k.id);
  if (k.place || !k.candidates?.length) return <Failure problem={problem} retry={retry} />;
  return (
    <Part aria-label="Which one is it">
      <h2>Which one is it?</h2>
      <Lines>
        {k.candidates.map((p) => (
          <li key={placeKey(p)}>
            <PlaceText place={p} />
            <Plain onPress={() => change.mutate({ place: p, version: k.version })}>This one</Plain>
          </li>
        ))}
      </Lines>
      {change.error && <Failure problem={change.error} />}
    </Part>
  );
}
