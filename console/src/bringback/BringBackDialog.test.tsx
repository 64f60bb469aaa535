import { act, cleanup, screen, waitFor, within } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { afterEach, expect, it, vi } from "vitest";
import type { Copy, PlanItem } from "../api/client";
import { drawn, events, Refusal, type Question } from "../served.test-world";
import { BringBackDialog } from "./BringBackDialog";

afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
});

const place = (path: string) => ({ machine: "front-office", path });
const item = (name: string, more: Partial<PlanItem> = {}) =>
  ({ copy: name, action: "copy", size: 2048, from: place(`/trash/${name}`), to: place(`/home/ines/${name}`), ...more }) as PlanItem;
const copies = [{ id: "c1" }, { id: "c2" }] as Copy[];
const plan = (...items: PlanItem[]) => ({ items, bytes: 4096 });
const body = (q: Question | undefined) => q?.body as Record<string, unknown>;

function opened(answer: (q: Question) => unknown) {
  const [close, done] = [vi.fn(), vi.fn()];
  const { asked } = drawn(<BringBackDialog what={{ copies }} close={close} done={done} />, {
    "POST /bring-backs": answer,
    "GET /machines": { machines: [{ name: "front-office" }, { name: "loft" }] },
  });
  return { asked, close, done };
}

it("nothing is written before it is agreed, what cannot be is said, and only what writes is counted", async () => {
  const { asked } = opened(() => plan(item("a.odt"), item("b.odt", { action: "refuse", note: "nobody may write there" })));
  const table = await screen.findByRole("table", { name: "The plan" });
  expect(within(table).getByText("Nobody may write there.")).toBeTruthy();
  expect(screen.getByRole("button", { name: "Bring back 1 of 2" })).toBeTruthy();
  expect(asked.filter((q) => q.call === "POST /bring-backs").map((q) => body(q).dry_run)).toEqual([true]);
});

it("what is only skipped cannot be begun, and neither can nothing", async () => {
  opened(() => plan(item("a.odt", { action: "skip" })));
  await screen.findByRole("table", { name: "The plan" });
  expect(screen.getByRole("button", { name: /^Bring back/ }).hasAttribute("disabled")).toBe(true);
  cleanup();
  opened(() => plan());
  expect((await screen.findByText(/There is nothing to bring back/)).getAttribute("role")).toBe("status");
  expect(screen.getByRole("button", { name: /^Bring back/ }).hasAttribute("disabled")).toBe(true);
});

it("a claim is planned otherwise once it is ticked, and the tick goes along when it is carried out", async () => {
  const told = events();
  const { asked, done, close } = opened((q) => {
    if (!body(q).dry_run) return { id: "j7", receipt: "r3", state: "running", done: 0, created_at: new Date().toISOString() };
    return plan(item("a.odt", body(q).trust_claimed ? { asks: ["trust-claimed"] } : { action: "refuse", asks: ["trust-claimed"] }));
  });
  await userEvent.click(await screen.findByRole("checkbox", { name: /this came from where its record claims/ }));
  const begin = await waitFor(() => {
    const b = screen.getByRole("button", { name: "Bring back" });
    expect(b.hasAttribute("disabled")).toBe(false);
    return b;
  });
  await userEvent.click(begin);
  await waitFor(() => expect(told.listens("/jobs/j7/events")).toBe(true));
  expect(body(asked.at(-1))).toMatchObject({
    copies: ["c1", "c2"],
    clash: "keep-both",
    dry_run: false,
    trust_claimed: true,
    keep_owners: false,
  });
  expect(screen.getByRole("button", { name: "Show the receipt" }).hasAttribute("disabled")).toBe(true);
  const ended = {
    id: "j7",
    receipt: "r3",
    state: "done",
    done: 1,
    created_at: new Date().toISOString(),
    ended_at: new Date().toISOString(),
  };
  act(() => told.tell("/jobs/j7/", ended));
  expect((await screen.findByText(/^Done: 1 item settled/)).getAttribute("role")).toBe("status");
  expect(done).toHaveBeenCalled();
  await userEvent.click(screen.getByRole("button", { name: "Show the receipt" }));
  expect(close).toHaveBeenCalled();
});

it("elsewhere is a folder of a machine, and planned there only once it is a path", async () => {
  const { asked } = opened(() => plan(item("a.odt")));
  await userEvent.click(await screen.findByRole("radio", { name: "Elsewhere" }));
  await userEvent.selectOptions(await screen.findByLabelText("Machine"), "loft");
  await userEvent.type(screen.getByLabelText("Folder"), "srv");
  expect(screen.getByRole("button", { name: "Plan it there" }).hasAttribute("disabled")).toBe(true);
  await userEvent.clear(screen.getByLabelText("Folder"));
  await userEvent.type(screen.getByLabelText("Folder"), "/srv/back");
  await userEvent.click(screen.getByRole("button", { name: "Plan it there" }));
  await waitFor(() => expect(body(asked.at(-1)).to).toEqual({ machine: "loft", path: "/srv/back/" }));
});

it("a plan that cannot be made says why and what to do next, and is made again when asked", async () => {
  let full = true;
  opened(() =>
    full
      ? new Refusal(507, { title: "There is no room", reasons: ["40 GB are missing on /home"], next: "Make room." })
      : plan(item("a.odt")),
  );
  const alert = await screen.findByRole("alert");
  expect(alert.textContent).toMatch(/There is no room.*40 GB are missing.*Make room\./);
  full = false;
  await userEvent.click(within(alert).getByRole("button", { name: "Try again" }));
  expect(await screen.findByRole("table", { name: "The plan" })).toBeTruthy();
});
