import { useMutation } from "@tanstack/react-query";
import { cleanup, screen, waitFor } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { afterEach, expect, it, vi } from "vitest";
import type { Case, NewCase, Problem } from "../api/client";
import { drawn, Refusal, type Question } from "../served.test-world";
import { Questions } from "./Questions";

afterEach(cleanup);

const machines = {
  machines: [
    { name: "front-office", people: [{ name: "ines" }, { name: "oda" }] },
    { name: "loft", people: [{ name: "ines" }] },
  ],
};

function Asking({ sent }: { sent: (body: NewCase) => void }) {
  const send = useMutation<Case, Problem, NewCase>({
    mutationFn: (body) => {
      sent(body);
      return Promise.resolve({ id: "k4" } as Case);
    },
  });
  return <Questions first={{}} verb="Open the case" send={send} leave={() => undefined} />;
}

function asking() {
  const sent = vi.fn<(body: NewCase) => void>();
  drawn(<Asking sent={sent} />, {
    "GET /machines": machines,
    "GET /understood": ({ query }: Question) =>
      query.get("text") === "friday 17:00"
        ? { at: "2026-10-30T17:00:00Z", said: "Friday, 30 October, 17:00" }
        : new Refusal(400, { title: "Not a time", next: "Say it like friday 17:00." }),
  });
  return sent;
}

const open = () => screen.getByRole("button", { name: "Open the case" });
const where = () => screen.getByLabelText(/^Where was it/);

it("a path needs its machine, words need none, and each is sent as what it is", async () => {
  const sent = asking();
  expect(await screen.findByRole("option", { name: "oda" })).toBeTruthy();
  expect(screen.getAllByRole("option", { name: "ines" })).toHaveLength(1);
  await userEvent.click(screen.getByRole("radio", { name: /^Deleted/i }));
  await userEvent.type(where(), "/home/ines/Quote 127.odt");
  expect(screen.getByText("A place needs its machine.")).toBeTruthy();
  expect(open().hasAttribute("disabled")).toBe(true);
  await userEvent.selectOptions(screen.getByLabelText("On which machine?"), "loft");
  await userEvent.click(open());
  expect(sent.mock.calls[0]?.[0]).toMatchObject({
    loss: "deleted",
    machine: "loft",
    place: { machine: "loft", path: "/home/ines/Quote 127.odt" },
  });
  expect(sent.mock.calls[0]?.[0]?.words).toBeUndefined();

  await userEvent.clear(where());
  await userEvent.type(where(), "  quote 127 ");
  await userEvent.click(open());
  expect(sent.mock.calls[1]?.[0]).toMatchObject({ words: "quote 127" });
  expect(sent.mock.calls[1]?.[0]?.place).toBeUndefined();
});

it("a time that is not understood keeps the case from being opened, one that is goes along", async () => {
  const sent = asking();
  await userEvent.click(await screen.findByRole("radio", { name: /^Deleted/i }));
  await userEvent.type(where(), "quote");
  const good = screen.getByLabelText(/^When was it last right/);
  await userEvent.type(good, "when the tern came");
  expect(await screen.findByText("Say it like friday 17:00.")).toBeTruthy();
  expect(open().hasAttribute("disabled")).toBe(true);
  expect(screen.getByText("A time was not understood.")).toBeTruthy();
  await userEvent.clear(good);
  await userEvent.type(good, "friday 17:00");
  expect(await screen.findByText("understood as Friday, 30 October, 17:00")).toBeTruthy();
  await waitFor(() => expect(open().hasAttribute("disabled")).toBe(false));
  await userEvent.click(open());
  expect(sent.mock.calls[0]?.[0]?.good_at).toBe("2026-10-30T17:00:00Z");
});
