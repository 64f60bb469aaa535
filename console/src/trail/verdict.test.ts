import { expect, test } from "vitest";
import type { Advice, Trail } from "../api/client";
import { verdictOf } from "./verdict";

test("the advised version is found by its copy, and the others carry why not", () => {
  const copy = (id: string) => ({ id });
  const trail = {
    versions: [
      { content: 0, marks: [copy("c1")] },
      { content: 1, marks: [copy("c2"), copy("c3")] },
      { content: 0, marks: [copy("c4")] },
    ],
  } as unknown as Trail;
  const advice = {
    recommended: { copy: copy("c3"), because: ["It is the one.", "It is sound."] },
    others: [
      { copy: copy("c2"), why: "less near" },
      { copy: copy("c4"), why: "came later" },
      { copy: copy("c9"), why: "elsewhere" },
    ],
    because: [],
  } as unknown as Advice;
  const verdict = verdictOf(trail, advice);
  expect(verdict).toMatchObject({ version: 1, copy: "c3", sentence: "It is the one." });
  expect([...verdict.whyNot]).toEqual([[2, "came later"]]);
});
