import { cleanup, screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { afterEach, expect, it } from "vitest";
import type { Schemas } from "../api/client";
import { drawn, Refusal } from "../served.test-world";
import { AddStore } from "./AddStore";
import { Unlock } from "./Unlock";

afterEach(cleanup);

const kinds = [
  { name: "archive", shape: "points", options: [{ name: "names", says: "The page of names." }] },
  { name: "cloud", shape: "kept", options: [] },
  { name: "trash", shape: "removals", options: [] },
] as unknown as Schemas["Kind"][];

const machine = { name: "loft" } as Schemas["Machine"];

const add = () => screen.getByRole("button", { name: "Look at it and add it" });

it("a store is added with its maps and options, then surveyed, and each step says what came of it", async () => {
  const { asked } = drawn(<AddStore machine={machine} kinds={kinds} leave={() => undefined} />, {
    "POST /sources": { id: "s12", notes: ["It holds three archives."] },
    "POST /surveys": { id: "j1" },
  });
  expect(screen.getAllByRole("option").map((o) => o.textContent?.split(":")[0])).toEqual(["choose", "archive", "trash"]);
  await userEvent.selectOptions(screen.getByLabelText("What is it?"), "archive");
  await userEvent.type(screen.getByLabelText(/^Where does it lie/), " /srv/old ");
  await userEvent.type(screen.getByLabelText(/^Which folder in it/), "/");
  expect(add().hasAttribute("disabled"), "a map has two ends").toBe(true);
  await userEvent.type(screen.getByLabelText(/^stands for which/), "/home");
  await userEvent.type(screen.getByLabelText(/^names/), "cp850");
  await userEvent.click(add());
  expect(await screen.findByText("Its survey has begun; the desk shows how far it is.")).toBeTruthy();
  expect(screen.getByText("It holds three archives.")).toBeTruthy();
  expect(asked.map((q) => q.body)).toEqual([
    { machine: "loft", kind: "archive", at: "/srv/old", maps: ["/=/home"], options: { names: "cp850" } },
    { source: "s12" },
  ]);
});

it("the first step that fails ends it, says what to do next, and nothing is surveyed", async () => {
  const { asked } = drawn(<AddStore machine={machine} kinds={kinds} leave={() => undefined} />, {
    "POST /sources": new Refusal(400, { title: "There is no trash at /srv", next: "Give the folder that has files and info." }),
  });
  await userEvent.selectOptions(screen.getByLabelText("What is it?"), "trash");
  await userEvent.type(screen.getByLabelText(/^Where does it lie/), "/srv{Enter}");
  expect((await screen.findByRole("alert")).textContent).toMatch(/There is no trash.*files and info/);
  expect(asked.map((q) => q.call)).toEqual(["POST /sources"]);
});

it("a password is gone from its field once it was taken, and stays while it was not", async () => {
  let right = false;
  drawn(<Unlock what="s12" label="Password of s12" />, {
    "POST /sources/s12/unlock": () => (right ? { opened: 3, locked: 1 } : new Refusal(403, { title: "It opens nothing" })),
  });
  const field = screen.getByLabelText<HTMLInputElement>("Password of s12", { selector: "input" });
  await userEvent.type(field, "oak{Enter}");
  expect((await screen.findByRole("alert")).textContent).toContain("It opens nothing");
  expect(field.value).toBe("oak");
  right = true;
  await userEvent.type(field, "leaf{Enter}");
  expect((await screen.findByText(/^It opens 3 of 4/)).textContent).toBeTruthy();
  expect(field.value).toBe("");
});
