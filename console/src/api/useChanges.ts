import { useQueryClient } from "@tanstack/react-query";
import { useEffect } from "react";
import { withKey } from "./key";

/** What shows things of a kind, by the first word of its query. */
const shows: Record<string, string[]> = {
  job: ["jobs", "receipts"],
  case: ["cases"],
  machine: ["machines"],
  source: ["machines"],
  much: ["jobs", "receipts", "cases", "machines"],
};

/** How long changes gather before what shows them is asked anew, in milliseconds. */
const gathering = 500;

/** Follows what changes, by one stream, so that everybody sees at once what others and the service do. */
export function useChanges() {
  const queries = useQueryClient();
  useEffect(() => {
    const stream = new EventSource(withKey("/api/v1/events"));
    const stale = new Set<string>();
    let gathered: ReturnType<typeof setTimeout> | undefined;
    stream.addEventListener("change", (event) => {
      const { kind } = JSON.parse(event.data) as { kind: string };
      for (const what of shows[kind] ?? []) stale.add(what);
      gathered ??= setTimeout(() => {
        gathered = undefined;
        for (const what of stale) void queries.invalidateQueries({ queryKey: [what] });
        stale.clear();
      }, gathering);
    });
    return () => {
      clearTimeout(gathered);
      stream.close();
    };
  }, [queries]);
}
