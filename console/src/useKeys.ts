import { useLayoutEffect } from "react";
import { useHotkeys, useHotkeysContext } from "react-hotkeys-hook";

/** What a key belongs to: the page, or the tray of what is selected, which steps back for a page that has the same key. */
export type Scope = "page" | "tray";

/** Where single keys are typed, or mean something else. */
const elsewhere = "input:not([type=checkbox]):not([type=radio]), textarea, select, [contenteditable], [role=dialog], [role=listbox]";

/** Whether a key is part of a text or of a chord, or a dialogue stands open. Shift is none: some keyboards need it for “/”. */
function typed(event: KeyboardEvent): boolean {
  if (event.ctrlKey || event.metaKey || event.altKey || event.key.toLowerCase() !== event.key) return true;
  return (event.target as HTMLElement).closest(elsewhere) !== null || document.querySelector("[role=dialog]") !== null;
}

/** Calls act on a single key anywhere on the page, but never while something is typed or a dialogue stands open. */
export function useKey(key: string, act: () => void, enabled = true, scope: Scope = "page") {
  useHotkeys(
    key,
    act,
    {
      scopes: scope,
      enabled,
      useKey: true, // what is typed, wherever it lies on the keyboard
      preventDefault: true,
      // What is typed elsewhere is judged here, as the library's own rules would leave out check boxes and shifted characters.
      enableOnFormTags: true,
      ignoreModifiers: true,
      ignoreEventWhen: typed,
      // Captured, or a list whose names begin with the letter would take it for the start of one.
      eventListenerOptions: { capture: true },
    },
    [act],
  );
}

/** While a page has a key of its own that the tray has too, it is the page's. */
export function useInsteadOfTray(has: boolean) {
  const { enableScope, disableScope } = useHotkeysContext();
  useLayoutEffect(() => {
    if (!has) return;
    disableScope("tray");
    return () => enableScope("tray");
  }, [has, enableScope, disableScope]);
}

/** Whether the tray's keys are its own now. */
export const useTraysTurn = () => useHotkeysContext().activeScopes.includes("tray");
