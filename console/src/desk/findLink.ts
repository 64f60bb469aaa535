import type { Copy } from "../api/client";

/** Where copies like one are found: of its name, on its machine. */
export function findLink(c: Copy): string {
  return `/find?${new URLSearchParams({ words: c.name, machine: c.place.machine })}`;
}
