import { cleanup, render, screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import axe from "axe-core";
import { useState } from "react";
import { afterEach, beforeAll, expect, it, vi } from "vitest";
import type { Folder, FolderRow } from "../api/client";
import { Grid } from "./Grid";

afterEach(cleanup);

// There is no layout in the tests' document: the table is as high as it says.
beforeAll(() => {
  for (const [side, length] of [
    ["clientHeight", 600],
    ["clientWidth", 800],
    ["offsetHeight", 600],
    ["offsetWidth", 800],
  ] as const)
    vi.spyOn(HTMLElement.prototype, side, "get").mockReturnValue(length);
});

const row = (name: string): FolderRow => ({ name, path: { machine: "loft", path: `/plans/${name}` }, type: "file", cells: "#-#" });
const rows = ["Keel.svg", "Ribs.svg", "a\\b.svg"].map(row);
const folder = {
  moments: [1, 5].map((d) => ({ at: new Date(Date.UTC(2026, 10, d)).toISOString(), changed: 1 })),
  rows,
  entries: [{ name: "Keel.svg", state: "missing" }],
} as unknown as Folder;

function Held({ open, pick }: { open: (name: string) => void; pick: (moment: number) => void }) {
  const [name, choose] = useState<string>("Keel.svg");
  return (
    <Grid
      rows={rows}
      more={{ left: false, loading: false, load: () => undefined }}
      folder={folder}
      columns={[0, 2]}
      nameWidth={200}
      chosen={1}
      row={name}
      {...{ choose, pick, open }}
    />
  );
}

it("every entry is reached by keyboard, chosen with the arrows and opened with Enter", async () => {
  const open = vi.fn();
  const { container } = render(<Held open={open} pick={vi.fn()} />);
  await userEvent.tab();
  await userEvent.keyboard("{ArrowDown}{ArrowDown}");
  expect(screen.getByRole("row", { selected: true }).textContent).toContain("a\\b.svg");
  await userEvent.keyboard("{Enter}");
  expect(open).toHaveBeenCalledExactlyOnceWith("a\\b.svg");
  const found = await axe.run(container, { rules: { "color-contrast": { enabled: false } } });
  expect(found.violations.map((v) => `${v.id}: ${v.help}`)).toEqual([]);
});
