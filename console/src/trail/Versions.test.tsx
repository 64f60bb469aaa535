import { cleanup, render, screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import axe from "axe-core";
import { useState } from "react";
import { afterEach, expect, it } from "vitest";
import type { Trail } from "../api/client";
import { Versions } from "./Versions";

afterEach(cleanup);

const place = { machine: "front-office", path: "/home/ines/Quote.odt" };
const at = (day: number) => new Date(Date.UTC(2026, 10, day)).toISOString();
const trail = {
  place,
  lanes: [{ source: { id: "s1", kind: "archive" } }],
  versions: [1, 4, 9].map((day, i) => ({
    place,
    content: i,
    arrived_at: at(day),
    last_seen_at: at(day + 1),
    superseded_at: i === 2 ? null : at(day + 3),
    size: 1000 + i,
    marks: [{ id: `c${i}`, lane: 0, readable: i !== 1 }],
  })),
} as unknown as Trail;

function Held() {
  const [version, choose] = useState(2);
  return (
    <Versions
      trail={trail}
      version={version}
      copy={`c${version}`}
      marked={["c0"]}
      loss={null}
      verdict={{ version: 0, whyNot: new Map(), copy: undefined, sentence: "" }}
      choose={choose}
    />
  );
}

it("every version is reached by keyboard, newest first, and says its copies and what is advised", async () => {
  const { container } = render(<Held />);
  await userEvent.tab();
  expect(screen.getByRole("row", { selected: true }).textContent).toContain("still there");
  await userEvent.keyboard("{ArrowDown}");
  expect(screen.getByRole("row", { selected: true }).textContent).toContain("c1 archive (record only) ← chosen");
  await userEvent.keyboard("{End}");
  expect(screen.getByRole("row", { selected: true }).textContent).toMatch(/◆ advised.*c0 archive.*▾ marked/);
  const found = await axe.run(container, { rules: { "color-contrast": { enabled: false } } });
  expect(found.violations.map((v) => `${v.id}: ${v.help}`)).toEqual([]);
});
