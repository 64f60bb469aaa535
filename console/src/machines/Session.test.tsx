import { cleanup, screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { afterEach, expect, it } from "vitest";
import type { Schemas } from "../api/client";
import { drawn } from "../served.test-world";
import { Session } from "./Session";

afterEach(cleanup);

const machine = (session: object): Schemas["Machine"] => ({
  name: "loft",
  at: "/m",
  zone: "UTC",
  retention_days: 30,
  people: [],
  sources: [],
  notes: [],
  session: session as NonNullable<Schemas["Machine"]["session"]>,
});

it("says of a machine that is not reached why, and lets it be left alone", async () => {
  const { asked } = drawn(
    <Session machine={machine({ state: "asleep", since: "2026-11-03T12:00:00Z", why: "it cannot be reached" })} alter={() => undefined} />,
    {
      "PATCH /machines/loft": {},
    },
  );
  expect(screen.getByText(/loft is not reached since/)).toBeTruthy();
  expect(screen.getByText("it cannot be reached.")).toBeTruthy();
  await userEvent.click(screen.getByRole("button", { name: "Leave it alone" }));
  expect(asked[0]?.body).toEqual({ stopped: true });
});

it("lets one that is left alone be taken up again, and says nothing of one that is awake", async () => {
  const { asked } = drawn(<Session machine={machine({ state: "stopped" })} alter={() => undefined} />, { "PATCH /machines/loft": {} });
  await userEvent.click(screen.getByRole("button", { name: "Take it up again" }));
  expect(asked[0]?.body).toEqual({ stopped: false });
  cleanup();
  drawn(<Session machine={machine({ state: "awake", since: "2026-11-03T12:00:00Z" })} alter={() => undefined} />, {});
  expect(screen.queryByText(/loft is/)).toBeNull();
});

it("offers changes to those alone who may make them", () => {
  const shown = (rights: string[]) => {
    drawn(<Session machine={machine({ state: "awake" })} alter={() => undefined} />, {}, { technician: "Rui", rights, whole: true });
    const offered = screen.queryAllByRole("button").map((b) => b.textContent);
    cleanup();
    return offered;
  };
  expect(shown(["find", "arrange"])).toEqual(["Leave it alone", "Change …"]);
  expect(shown(["find"])).toEqual([]);
});
