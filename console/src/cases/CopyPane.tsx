import type { Copy, Place } from "../api/client";
import { CopyLine } from "../parts/CopyLine";
import { Difference } from "../parts/Difference";
import { Plain, Quiet } from "../parts/controls";
import { Row } from "../parts/layout";
import { Peek } from "../parts/Peek";

/** How a copy is looked at. */
export type Look = "peek" | "compare";

/** The copy that is chosen in a case: what it is, and a look into it. */
export function CopyPane({
  copy,
  look,
  setLook,
  at,
  keep,
}: {
  copy: Copy;
  look: Look;
  setLook: (look: Look) => void;
  at: Place | undefined;
  keep: () => void;
}) {
  return (
    <article aria-label={`Copy ${copy.id}`}>
      <Row>
        <h1>{copy.name}</h1>
        {look === "compare" ? (
          <Plain onPress={() => setLook("peek")}>Peek</Plain>
        ) : (
          <Plain onPress={() => setLook("compare")}>Compare with now</Plain>
        )}
        <Plain onPress={keep}>Put it into the case</Plain>
      </Row>
      <CopyLine copy={copy} />
      {copy.condition.reasons.length > 0 && (
        <p>
          {copy.condition.state}: <Quiet>{copy.condition.reasons.join(" ")}</Quiet>
        </p>
      )}
      {look === "compare" ? <Difference left={copy.id} right="now" at={at} /> : <Peek id={copy.id} />}
    </article>
  );
}
