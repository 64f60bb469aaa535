// What cases are called in sentences.
import type { Case, CaseEntry, CaseState, Loss, Place, Schemas } from "../api/client";
import { nameOf, placeParams } from "../places";
import { bytes } from "../when";

export const losses: { id: Loss; label: string; hint: string }[] = [
  { id: "deleted", label: "Deleted", hint: "It is gone: thrown away, emptied, removed." },
  { id: "overwritten", label: "Overwritten", hint: "It is there, but what was in it was saved over." },
  { id: "damaged", label: "Damaged", hint: "It does not open any more, or is full of nonsense." },
  { id: "misplaced", label: "Misplaced", hint: "Nobody deleted it, and yet it is not where it was." },
  { id: "unsaved", label: "Never saved", hint: "The program or the machine stopped before it was saved." },
];

export const lossWord = (loss: Loss) => losses.find((l) => l.id === loss)?.label.toLowerCase() ?? loss;

export const stateWord: Record<CaseState, string> = { open: "open", waiting: "waiting for the user", done: "done" };

export const whatOf = (k: Case) => (k.place ? nameOf(k.place) : k.words || `something of ${k.person}`);

const quoted = (words: string[]) => `“${words.join("”, “")}”`;

/** What is known of the content, for the end of a sentence. */
export function hintsSaid(h: Schemas["Hints"]): string {
  return [
    h.containing && `holds ${quoted(h.containing)}`,
    h.without && `does not hold ${quoted(h.without)}`,
    h.least && `has ${bytes(h.least)} at least`,
    h.most && `has ${bytes(h.most)} at most`,
    h.media_type && `is ${h.media_type}…`,
  ]
    .filter(Boolean)
    .map((s) => `; ${s}`)
    .join("");
}

export function entryWord(e: CaseEntry): string {
  switch (e.kind) {
    case "opened":
      return "opened the case";
    case "changed":
      return `changed ${e.text ?? "it"}`;
    case "state":
      return `set it to ${stateWord[e.ref as CaseState]}`;
    case "note":
      return e.text ?? "";
    case "copy":
      return `put copy ${e.ref} in: ${e.text ?? ""}`;
    case "wrong":
      return `said that copy ${e.ref} is not the one`;
    case "right":
      return `took back that copy ${e.ref} is not the one`;
    case "step":
      return `did the first aid step ${e.ref}`;
    case "unstep":
      return `took back the first aid step ${e.ref}`;
    case "receipt":
      return `brought back, receipt ${e.ref}`;
  }
}

/** Where the trail of a case's place is shown, with the case beside it. */
export function trailOf(of: Case, place: Place): string {
  const params = placeParams(place);
  params.set("case", of.id);
  return `/trail?${params}`;
}
