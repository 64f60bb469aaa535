import { expect, it } from "vitest";
import { cellsSaid, chosenMoment, dayLabels, partRows, visibleColumns } from "./columns";

const moments = [1, 5, 9].map((d) => ({ at: new Date(Date.UTC(2026, 10, d, 12)).toISOString(), changed: 1 }));

it("shows a folder as of the last moment not later than asked", () => {
  expect(chosenMoment(moments, undefined)).toBe(3);
  expect(chosenMoment(moments, "2026-11-06T00:00:00Z")).toBe(1);
  expect(chosenMoment(moments, "2020-01-01T00:00:00Z")).toBe(0);
});

it("keeps the chosen moment among the columns that fit", () => {
  expect(visibleColumns(5, 10, 2)).toEqual([0, 5]);
  expect(visibleColumns(400, 30, 400)).toEqual([370, 400]);
  expect(visibleColumns(400, 30, 200)).toEqual([185, 215]);
  expect(visibleColumns(400, 30, 0)).toEqual([0, 30]);
});

it("folds what never changed and leaves out what never was", () => {
  const row = (name: string, cells: string) => ({ name, path: { machine: "loft", path: `/${name}` }, type: "file" as const, cells });
  const parted = partRows([row("still", "#---"), row("moving", "#-#-"), row("came", ".#--"), row("never", "....")]);
  expect(parted.still.map((r) => r.name)).toEqual(["still"]);
  expect(parted.moving.map((r) => r.name)).toEqual(["moving", "came"]);
});

it("writes a day where it begins and there is room", () => {
  expect([...dayLabels(moments, 2).keys()]).toEqual([0, 2]);
  expect([...dayLabels(moments, 1).keys()]).toEqual([0, 1, 2]);
});

it("says what the cells of a row draw", () => {
  expect(cellsSaid(".#--#")).toBe("there at 4 of 5 moments, new content at 2");
  expect(cellsSaid("#>")).toBe("there at 2 of 2 moments, new content at 1, moved at 1");
});
