import { act, cleanup, screen, waitFor } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { afterEach, expect, it, vi } from "vitest";
import { useChanges } from "../api/useChanges";
import { drawn, events, Refusal } from "../served.test-world";
import { Surveys } from "./Surveys";

function Desk() {
  useChanges();
  return <Surveys />;
}

afterEach(() => {
  cleanup();
  vi.unstubAllGlobals();
});

const begun = "2026-11-03T12:00:00Z";
const job = (more: object = {}) => ({
  id: "j7",
  kind: "survey",
  state: "running",
  done: 12,
  total: 0,
  bytes: 0,
  created_at: begun,
  ...more,
});

it("a survey is followed, stopped after the item it is at, and then said to be so", async () => {
  const told = events();
  let ended = false;
  const { asked } = drawn(<Desk />, {
    "GET /jobs": () => ({ jobs: [ended ? job({ state: "cancelled", error: "cancelled by a technician", ended_at: begun }) : job()] }),
    "GET /machines": { machines: [] },
    "DELETE /jobs/j7": job(),
  });
  await userEvent.click(await screen.findByRole("button", { name: "Stop survey j7" }));
  await waitFor(() => expect(screen.getByRole("button", { name: "Stop survey j7" }).textContent).toBe("Stopping …"));
  expect(asked.filter((q) => q.call === "DELETE /jobs/j7")).toHaveLength(1);
  ended = true;
  act(() => told.tell("/api/v1/events", { kind: "job", id: "j7" }));
  expect(await screen.findByText("It was stopped.")).toBeTruthy();
});

it("one that had ended meanwhile says so, and can be tried again", async () => {
  events();
  drawn(<Surveys />, {
    "GET /jobs": { jobs: [job({ state: "waiting" })] },
    "GET /machines": { machines: [{ name: "loft", sources: [{ id: "s3", trouble: "It could not be reached." }] }] },
    "DELETE /jobs/j7": new Refusal(409, { title: "It has ended", next: "Look at how it stands now." }),
  });
  expect(await screen.findByText("It could not be reached.")).toBeTruthy();
  await userEvent.click(await screen.findByRole("button", { name: "Stop survey j7" }));
  expect((await screen.findByRole("alert")).textContent).toMatch(/It has ended.*how it stands now/);
  expect(screen.getByRole("button", { name: "Stop survey j7" }).hasAttribute("disabled")).toBe(false);
});
