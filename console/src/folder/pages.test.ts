import { expect, it } from "vitest";
import type { Folder } from "../api/client";
import { joined } from "./pages";

const page = (moments: number[], rows: Record<string, string>, next?: string): Folder =>
  ({
    moments: moments.map((m) => ({ at: new Date(m * 1000).toISOString(), changed: 1 })),
    rows: Object.entries(rows).map(([name, cells]) => ({ name, cells })),
    entries: Object.keys(rows).map((name) => ({ name })),
    missing: 1,
    changed: 2,
    added: 0,
    moved: 0,
    same: 3,
    ...(next ? { next } : {}),
  }) as unknown as Folder;

it("a folder of one page is that page, and none is none", () => {
  const one = page([1], { a: "#" });
  expect(joined([one])).toBe(one);
  expect(joined([])).toBeUndefined();
});

it("pages have the moments of all, between which nothing happens to their rows", () => {
  const f = joined([page([1, 3], { a: "#.", b: "#>" }, "b"), page([2, 3, 4], { c: "#-#", d: ".>-" })]);
  expect(f?.moments.map((m) => [Date.parse(m.at) / 1000, m.changed])).toEqual([
    [1, 1],
    [2, 1],
    [3, 2],
    [4, 1],
  ]);
  expect(f?.rows.map((r) => `${r.name} ${r.cells}`)).toEqual(["a #-..", "b #->.", "c .#-#", "d ..>-"]);
  expect([f?.entries.length, f?.missing, f?.changed, f?.same, f?.next]).toEqual([4, 2, 4, 6, undefined]);
});
