import { act, cleanup, screen, waitFor } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { HotkeysProvider } from "react-hotkeys-hook";
import { afterEach, expect, it, vi } from "vitest";
import type { Receipt } from "../api/client";
import { drawn, events, Refusal } from "../served.test-world";
import { ReceiptView } from "./ReceiptView";

afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
});

const place = (path: string) => ({ machine: "loft", path });
const receipt = (more: Partial<Receipt> = {}) => ({
  id: "r3",
  at: "2026-11-03T12:00:00Z",
  by: "maren",
  state: "done",
  done: 1,
  count: 1,
  items: [{ outcome: "done", size: 12, from: place("/trash/a"), to: place("/home/ines/a") }],
  ...more,
});

const shown = (answers: Record<string, unknown>) =>
  drawn(
    <HotkeysProvider initiallyActiveScopes={["page"]}>
      <ReceiptView id="r3" />
    </HotkeysProvider>,
    answers,
  );

it("says of each item what became of it, what was set aside, and by which digest it is known", async () => {
  const items = [
    { outcome: "partly", size: 12, from: place("/t/f"), to: place("/home/ines/f"), note: "two of nine did not arrive" },
    {
      outcome: "done",
      size: 3,
      from: place("/t/b"),
      to: place("/home/ines/b"),
      sha256: "ab".repeat(32),
      set_aside: { type: "file", size: 2048 },
    },
    { outcome: "skipped", size: 3, from: place("/t/c"), to: { machine: "", path: "" } },
  ];
  shown({ "GET /receipts/r3": receipt({ state: "part", count: 3, items: items as unknown as Receipt["items"] }) });
  const rows = (await screen.findAllByRole("row")).slice(1).map((r) => r.textContent);
  expect(rows[0]).toMatch(/^partly.*two of nine did not arrive/);
  expect(rows[1]).toMatch(/Set aside what stood there: a file of 2.*Undo puts it back\.digest (ab){8}…/);
  expect(rows[2]).toContain("nowhere");
  expect(screen.getByRole("heading").textContent).toBe("Receipt r3: done in part");
});

it("offers to undo what arrived, and only that", async () => {
  for (const [state, done, can] of [
    ["done", 1, true],
    ["done", 0, false],
    ["part", 0, true],
    ["open", 1, false],
    ["undone", 1, false],
    ["failed", 0, false],
  ] as const) {
    shown({ "GET /receipts/r3": receipt({ state, done }) });
    await screen.findByRole("heading");
    expect(screen.queryByRole("button", { name: /^Undo/ }) !== null, `${state} ${done}`).toBe(can);
    cleanup();
  }
});

it("undoing by its key is followed to its end, and the receipt is read again", async () => {
  const told = events();
  let undone = false;
  const { asked } = shown({
    "GET /receipts/r3": () => (undone ? receipt({ state: "undone", undone_at: "2026-11-03T13:00:00Z", undone_by: "oda" }) : receipt()),
    "POST /receipts/r3/undo": { id: "j9", state: "running", done: 0, created_at: "2026-11-03T13:00:00Z" },
  });
  await screen.findByRole("button", { name: /^Undo/ });
  await userEvent.keyboard("u");
  await waitFor(() => expect(told.listens("/jobs/j9/events")).toBe(true));
  undone = true;
  act(() => told.tell("/jobs/j9/", { id: "j9", state: "done", created_at: "2026-11-03T13:00:00Z", ended_at: "2026-11-03T13:00:01Z" }));
  expect((await screen.findByText(/undone .* by oda/)).textContent).toBeTruthy();
  expect(screen.getByRole("heading").textContent).toBe("Receipt r3: undone");
  expect(asked.filter((q) => q.call === "POST /receipts/r3/undo")).toHaveLength(1);
});

it("an undo that is refused says why; a long receipt is read page by page", async () => {
  shown({
    "GET /receipts/r3": (q: { query: URLSearchParams }) => ({
      ...receipt({ count: 2 }),
      ...(q.query.get("cursor") ? {} : { next: "2" }),
    }),
    "POST /receipts/r3/undo": new Refusal(409, { title: "Somebody worked on it since", reasons: ["/home/ines/a was changed"] }),
  });
  await userEvent.click(await screen.findByRole("button", { name: "Show more (1 of 2 items are shown)" }));
  await waitFor(() => expect(screen.getAllByRole("row")).toHaveLength(3));
  expect(screen.queryByRole("button", { name: /^Show more/ })).toBeNull();
  await userEvent.click(screen.getByRole("button", { name: /^Undo/ }));
  expect((await screen.findByRole("alert")).textContent).toMatch(/Somebody worked on it since.*was changed/);
});
