import { useLayoutEffect } from "react";

/** Calls act on a single key anywhere on the page, but never while something is typed or a dialogue stands open. */
export function useKey(key: string, act: () => void, enabled = true) {
  useLayoutEffect(() => { // with the page itself, so that no key is missed once it shows
    if (!enabled) return;
    const listen = (event: KeyboardEvent) => {
      const target = event.target as HTMLElement;
      if (event.key !== key || event.ctrlKey || event.metaKey || event.altKey) return;
      if (target.closest("input:not([type=checkbox]):not([type=radio]), textarea, select, [contenteditable], [role=dialog], [role=listbox]")) return;
      event.preventDefault();
      event.stopPropagation();
      act();
    };
    // Captured, or a list whose names begin with the letter would take it for the start of one.
    document.addEventListener("keydown", listen, true);
    return () => document.removeEventListener("keydown", listen, true);
  }, [key, act, enabled]);
}
