import { describe, expect, it } from "vitest";
import { hintsOf, typedHints } from "./HintFields";

describe("what is known of the content", () => {
  it("reads back as it was written", () => {
    const hints = { containing: ["oak", "copper nails"], without: ["draft"], least: 512, most: 3 * 1024 * 1024, media_type: "image/" };
    expect(hintsOf(typedHints(hints))).toEqual(hints);
  });
  it("says nothing where nothing was typed", () => {
    expect(hintsOf(typedHints())).toEqual({});
    expect(hintsOf({ containing: " ; ", without: "", least: "-3", most: "many", media: "" })).toEqual({});
  });
});
