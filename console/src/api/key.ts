// The key that goes with the session's cookie. Browsers send a host's cookies to each of its ports; what a page keeps stays with
// its own origin, port included.
const name = "humble-rewind-key";

export const sessionKey = {
  get: (): string => localStorage.getItem(name) ?? "",
  set: (key: string) => localStorage.setItem(name, key),
};

/** An address for pictures and streams, which cannot carry a header. */
export function withKey(path: string): string {
  return `${path}?key=${encodeURIComponent(sessionKey.get())}`;
}
