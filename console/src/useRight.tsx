import { useQuery } from "@tanstack/react-query";
import type { ReactNode } from "react";
import { session } from "./api/queries";

/** What somebody may do, as the contract names it. */
export type Right = "find" | "open" | "bring-back" | "survey" | "arrange" | "keep";

/**
 * Tells whether whoever is signed in may do something; whole: what takes knowing of the whole site. The service refuses it anyway: this
 * keeps it from being offered.
 */
export function useRight(right: Right, whole = false): boolean {
  const { data } = useQuery({ ...session, enabled: false }); // pages are drawn once it is there
  return data === undefined || (data.rights.includes(right) && (!whole || data.whole));
}

/** Offers something to whoever may do it. */
export function Allowed({ right, whole = false, children }: { right: Right; whole?: boolean; children: ReactNode }) {
  return useRight(right, whole) && children;
}
