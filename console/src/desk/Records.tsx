import { useQuery } from "@tanstack/react-query";
import { catalogueHealth } from "../api/queries";
import { Care, Quiet, Sheet } from "../parts/controls";
import { useRight } from "../useRight";
import { absolute } from "../when";

/** Speaks up only where the service's own records are not as they were written. */
export function Records() {
  const enabled = useRight("keep", true);
  const { data } = useQuery({ ...catalogueHealth, enabled });
  if (!data || data.state === "sound" || data.state === "checking") return null;
  return (
    <Sheet aria-label="The service’s records" role="alert">
      <h1>{data.state === "damaged" ? "The service’s own records are damaged" : "The service’s own records could not be checked"}</h1>
      <Care>{data.problem}.</Care> {data.next}
      {data.copied_at && <Quiet> Receipts and cases were last copied {absolute(data.copied_at)}.</Quiet>}
    </Sheet>
  );
}
