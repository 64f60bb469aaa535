import { cleanup, screen, waitFor } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { afterEach, expect, it } from "vitest";
import type { FirstAid } from "../api/client";
import { drawn } from "../served.test-world";
import { FirstAidPart } from "./FirstAidPart";

afterEach(cleanup);

const aid = (done: boolean, drive: Partial<FirstAid["drive"]> = {}) => ({
  steps: [
    {
      id: "stop",
      text: "Ask the user to stop working on that machine.",
      why: "What is written takes the place of what was freed.",
      urgent: true,
      done,
    },
    { id: "trash", text: "Do not empty the trash.", why: "It may be there.", urgent: false, done: true, done_by: "maren" },
  ],
  drive: { notes: [], ...drive },
});

it("what is left is open and urgent first, what was done says by whom, and a tick is kept in the case", async () => {
  let done = false;
  const { asked, container } = drawn(<FirstAidPart id="k4" />, {
    "GET /cases/k4/first-aid": () => aid(done),
    "POST /cases/k4/entries": () => {
      done = true;
      return { id: "k4", entries: [] };
    },
  });
  expect((await screen.findByText(/1 step to read out/)).textContent).toBeTruthy();
  expect(container.querySelector("details")?.open).toBe(true);
  expect(screen.getByText(/^Now:/)).toBeTruthy();
  expect(screen.getByText("Done by maren.")).toBeTruthy();
  await userEvent.click(screen.getByRole("checkbox", { name: /stop working/ }));
  await waitFor(() => expect(screen.getByText("all steps are done")).toBeTruthy());
  expect(asked.find((q) => q.call === "POST /cases/k4/entries")?.body).toMatchObject({ kind: "step", ref: "stop" });
});

it("the facts of the drive are one sentence, and those not known are left out", async () => {
  drawn(<FirstAidPart id="k4" />, {
    "GET /cases/k4/first-aid": aid(false, {
      mount: "/home",
      device: "sda2",
      medium: "solid-state",
      discard: "at-once",
      free: 2048,
      notes: ["It is nearly full."],
    }),
  });
  expect((await screen.findByText(/It is on sda2/)).textContent).toMatch(
    /^It is on sda2, mounted at \/home, a solid-state drive, wiping freed blocks at once, 2.* free\. It is nearly full\.$/,
  );
});
