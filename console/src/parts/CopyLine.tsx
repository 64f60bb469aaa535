import type { Copy } from "../api/client";
import { Mono, Quiet } from "./controls";

/** Which copy it is, of what kind of store, and where it lies in that. */
export function CopyLine({ copy }: { copy: Copy }) {
  return (
    <Quiet>
      Copy <Mono>{copy.id}</Mono> from {copy.source.kind},{" "}
      {copy.lies ? (
        copy.lies
      ) : (
        <>
          at{" "}
          <Mono>
            {copy.lies_at.machine}:{copy.lies_at.path}
          </Mono>
        </>
      )}
    </Quiet>
  );
}
