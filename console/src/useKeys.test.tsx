import { cleanup, fireEvent, render, screen } from "@testing-library/react";
import userEvent from "@testing-library/user-event";
import { HotkeysProvider } from "react-hotkeys-hook";
import { afterEach, expect, it, vi } from "vitest";
import { useInsteadOfTray, useKey } from "./useKeys";

afterEach(cleanup);

function Page({ has, act }: { has: boolean; act: () => void }) {
  useInsteadOfTray(has);
  useKey("b", act, has);
  useKey("/", act, !has);
  return (
    <>
      <input aria-label="words" />
      <input type="checkbox" aria-label="tick" />
    </>
  );
}

function Tray({ act }: { act: () => void }) {
  useKey("b", act, true, "tray");
  return null;
}

function drawn(has: boolean) {
  const [page, tray] = [vi.fn(), vi.fn()];
  const both = (of: boolean, dialog = false) => (
    <HotkeysProvider initiallyActiveScopes={["page", "tray"]}>
      <Page has={of} act={page} />
      <Tray act={tray} />
      {dialog && <div role="dialog" />}
    </HotkeysProvider>
  );
  const { rerender } = render(both(has));
  return { page, tray, again: (of: boolean, dialog = false) => rerender(both(of, dialog)) };
}

it("a key that the page and the tray both have is the page's alone, and the tray's again afterwards", async () => {
  const { page, tray, again } = drawn(true);
  await userEvent.keyboard("b");
  expect([page.mock.calls.length, tray.mock.calls.length]).toEqual([1, 0]);
  again(false);
  await userEvent.keyboard("b");
  expect([page.mock.calls.length, tray.mock.calls.length]).toEqual([1, 1]);
});

it("a key is text in a field, part of a chord with Ctrl, and nothing while a dialogue stands open", async () => {
  const { page, tray, again } = drawn(true);
  await userEvent.type(screen.getByLabelText("words"), "b");
  await userEvent.keyboard("{Control>}b{/Control}");
  again(true, true);
  (document.activeElement as HTMLElement).blur();
  await userEvent.keyboard("b");
  expect([page.mock.calls.length, tray.mock.calls.length]).toEqual([0, 0]);
});

it("a key acts from a check box, and where the keyboard has it with Shift", async () => {
  const { page, tray } = drawn(false);
  screen.getByLabelText("tick").focus();
  await userEvent.keyboard("b");
  expect(tray).toHaveBeenCalledTimes(1);
  fireEvent.keyDown(document.body, { key: "/", code: "Digit7", shiftKey: true });
  expect(page).toHaveBeenCalledTimes(1);
  fireEvent.keyDown(document.body, { key: "B", code: "KeyB", shiftKey: true });
  expect(tray).toHaveBeenCalledTimes(1);
});
