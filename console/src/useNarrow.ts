import { useSyncExternalStore } from "react";

const query = "(max-width: 900px)";

/** Tells whether the page is so narrow that its columns lie below each other, as on a phone. */
export function useNarrow(): boolean {
  return useSyncExternalStore(
    (told) => {
      const list = window.matchMedia(query);
      list.addEventListener("change", told);
      return () => list.removeEventListener("change", told);
    },
    () => window.matchMedia(query).matches,
  );
}
