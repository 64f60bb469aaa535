import { cleanup, screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { afterEach, expect, it } from "vitest";
import type { Schemas } from "../api/client";
import { drawn, Refusal } from "../served.test-world";
import { ChangeMachine } from "./ChangeMachine";
import { ChangeSource } from "./ChangeSource";

afterEach(cleanup);

const loft = { name: "loft", at: "davs://ines@drive/files", zone: "UTC", retention_days: 30 } as Schemas["Machine"];
const source = {
  id: "s4",
  kind: "snapshots",
  machine: "loft",
  at_machine: "shelf",
  at: "/srv/points",
  exclusions: ["*.tmp"],
  maps: ["/loft=/"],
  retention_days: 0,
  copies: 7,
} as Schemas["Source"];
const kind = { name: "snapshots", shape: "points", options: [{ name: "depth", says: "How deep." }] } as unknown as Schemas["Kind"];
const change = () => screen.getByRole("button", { name: /and change it$/ });

it("only what differs of a machine is changed, and what kept it from that is said", async () => {
  let refused = true;
  const { asked } = drawn(<ChangeMachine machine={loft} leave={() => undefined} />, {
    "PATCH /machines/loft": () => (refused ? new Refusal(400, { title: "It is another machine", next: "Add it." }) : {}),
  });
  expect(change().hasAttribute("disabled"), "nothing differs").toBe(true);
  const days = screen.getByLabelText(/^For how many days/);
  await userEvent.clear(days);
  await userEvent.type(days, "x");
  expect(change().hasAttribute("disabled"), "those are no days").toBe(true);
  await userEvent.clear(days);
  await userEvent.type(days, "90");
  await userEvent.type(screen.getByLabelText(/^Password/), "oak");
  await userEvent.click(change());
  expect((await screen.findByRole("alert")).textContent).toMatch(/another machine.*Add it/);
  refused = false;
  await userEvent.click(change());
  expect(await screen.findByText(/is the same machine/)).toBeTruthy();
  expect(screen.getByLabelText<HTMLInputElement>(/^Password/).value).toBe("");
  expect(asked.map((q) => q.body)).toEqual(Array(2).fill({ password: "oak", retention_days: 90 }));
});

it("only what differs of a source is changed; it is surveyed then, and said to be read anew where it is", async () => {
  const { asked } = drawn(<ChangeSource source={source} kind={kind} leave={() => undefined} />, {
    "PATCH /sources/s4": { ...source, renew: true, notes: ["It holds 12 points in time."] },
    "POST /surveys": { id: "j1" },
  });
  expect(screen.getByLabelText<HTMLInputElement>(/^Where is it now/).value).toBe("shelf:/srv/points");
  expect(change().hasAttribute("disabled"), "nothing differs").toBe(true);
  await userEvent.type(screen.getByLabelText(/^What is left out/), "\n\n Scratch ");
  await userEvent.type(screen.getByLabelText(/^How are its points/), "%Y");
  await userEvent.type(screen.getByLabelText(/^depth/), "3");
  await userEvent.click(change());
  expect(await screen.findByText("Its survey has begun; the desk shows how far it is.")).toBeTruthy();
  expect(screen.getByText("It holds 12 points in time.")).toBeTruthy();
  expect(screen.getByText(/are read anew/)).toBeTruthy();
  expect(asked.map((q) => q.body)).toEqual([{ named: "%Y", exclusions: ["*.tmp", "Scratch"], options: { depth: "3" } }, { source: "s4" }]);
});
