// What is asked of the service when something is brought back, and how that is called.
import type { Copy, Only, Place } from "../api/client";
import { absolute, counted, zone } from "../when";
import type { Where } from "./Choices";

/** What is brought back: copies, or a place as it stood at a moment. */
export type What = { copies: Copy[] } | { place: Place; as_of: string; only: Only } | { case: string; chosen: Copy[]; files: number };

/** What a technician may confirm, so that it is planned otherwise. */
export type Ask = "keep-owners" | "trust-claimed";

/** What the choices in the dialogue add to what is asked. */
export function bodyOf(where: Where, confirmed: Ask[]) {
  return {
    ...(where ? { to: where } : {}),
    keep_owners: confirmed.includes("keep-owners"),
    trust_claimed: confirmed.includes("trust-claimed"),
  };
}

/** What is asked of the service. In a case, no copies named are those that are advised. */
export function requestOf(what: What) {
  if ("case" in what) return { case: what.case, zone, ...(what.chosen.length > 0 ? { copies: what.chosen.map((c) => c.id) } : {}) };
  return "copies" in what ? { copies: what.copies.map((c) => c.id) } : what;
}

export function titleOf(what: What): string {
  if ("case" in what) return `Bring back ${counted(what.files, "file")} for case ${what.case}`;
  if ("copies" in what) return `Bring back ${counted(what.copies.length, "copy", "copies")}`;
  const amounts = { missing: "what is missing of", changed: "what is missing or changed of", exact: "exactly" };
  return `Bring back ${amounts[what.only]} ${what.place.path} as of ${absolute(what.as_of)}`;
}
