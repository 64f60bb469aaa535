import { act } from "react";
import { createRoot } from "react-dom/client";
import { describe, expect, it } from "vitest";
import type { Copy } from "./api/client";
import { SelectionProvider, useSelection } from "./selection";

(globalThis as { IS_REACT_ACT_ENVIRONMENT?: boolean }).IS_REACT_ACT_ENVIRONMENT = true;

const copy = (id: string) => ({ id, name: id }) as Copy;

/** Renders a component that hands out the selection, and returns how to reach it. */
function selection() {
  let current: ReturnType<typeof useSelection> | undefined;
  function Reader() {
    current = useSelection();
    return null;
  }
  const root = createRoot(document.createElement("div"));
  act(() =>
    root.render(
      <SelectionProvider>
        <Reader />
      </SelectionProvider>,
    ),
  );
  return () => {
    if (!current) throw new Error("not rendered");
    return current;
  };
}

describe("what is selected follows from page to page", () => {
  const first = ["c1", "c2", "c3"].map(copy);
  const second = ["c3", "c4"].map(copy);

  it("keeps the order of choosing and the choices of other pages", () => {
    const now = selection();
    act(() => now().setAmong(first, new Set(["c3"])));
    act(() => now().setAmong(first, new Set(["c1", "c3"])));
    act(() => now().setAmong(second, new Set(["c3", "c4"])));
    expect(now().copies.map((c) => c.id)).toEqual(["c3", "c1", "c4"]);
  });

  it("drops what is no longer chosen on the page it stands on, and nothing else", () => {
    const now = selection();
    act(() => now().setAmong(first, new Set(["c1", "c3"])));
    act(() => now().setAmong(second, new Set(["c4"])));
    expect(now().copies.map((c) => c.id)).toEqual(["c1", "c4"]);
    act(() => now().drop("c1"));
    expect(now().has("c1")).toBe(false);
    act(() => now().clear());
    expect(now().copies).toEqual([]);
  });
});
