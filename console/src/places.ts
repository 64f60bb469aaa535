// Places in addresses: the machine and the path, and the path's own bytes where it is not valid UTF-8. What is computed of a path is
// computed of its bytes: what is shown of it may stand for others.
import type { Place } from "./api/client";

const slash = 0x2f;

/** The bytes of a place's path. */
export function bytesOf(place: Place): Uint8Array {
  if (!place.path_bytes) return new TextEncoder().encode(place.path);
  return Uint8Array.from(atob(place.path_bytes), (c) => c.charCodeAt(0));
}

/** The place of a path by its bytes. */
function placeAt(machine: string, bytes: Uint8Array): Place {
  try {
    return { machine, path: new TextDecoder("utf-8", { fatal: true, ignoreBOM: true }).decode(bytes) };
  } catch {
    return { machine, path: shown(bytes), path_bytes: btoa(String.fromCharCode(...bytes)) };
  }
}

/** A path that is not valid UTF-8 as the service shows it: its broken bytes as \xNN, a backslash doubled. */
function shown(bytes: Uint8Array): string {
  let text = "";
  for (let at = 0; at < bytes.length;) {
    const length = characterAt(bytes, at);
    if (length === 0) text += `\\x${(bytes[at] ?? 0).toString(16).padStart(2, "0")}`;
    else text += new TextDecoder().decode(bytes.subarray(at, at + length)).replaceAll("\\", "\\\\");
    at += length || 1;
  }
  return text;
}

/** How many bytes the character at a byte takes; 0 where there is none. */
function characterAt(bytes: Uint8Array, at: number): number {
  for (const length of [1, 2, 3, 4]) {
    try {
      if (
        at + length <= bytes.length &&
        new TextDecoder("utf-8", { fatal: true, ignoreBOM: true }).decode(bytes.subarray(at, at + length)).length > 0
      )
        return length;
    } catch {
      // it takes more bytes, or is none
    }
  }
  return 0;
}

export function placeParams(place: Place): URLSearchParams {
  const params = new URLSearchParams({ machine: place.machine, path: place.path });
  if (place.path_bytes) params.set("path_bytes", place.path_bytes);
  return params;
}

export function placeOf(params: URLSearchParams): Place {
  const bytes = params.get("path_bytes");
  return { machine: params.get("machine") ?? "", path: params.get("path") ?? "", ...(bytes ? { path_bytes: bytes } : {}) };
}

export const trailLink = (place: Place) => `/trail?${placeParams(place)}`;

/** Where a folder is shown, as of a moment where one is given. */
export function folderLink(place: Place, asOf?: string): string {
  const params = placeParams(place);
  if (asOf) params.set("as_of", asOf);
  return `/folder?${params}`;
}

/** The folder that a place lies in. */
export function parentOf(place: Place): Place {
  const bytes = bytesOf(place);
  return placeAt(place.machine, bytes.subarray(0, Math.max(1, bytes.lastIndexOf(slash))));
}

/** The folders above a place, the outermost first, without the root. */
export function foldersAbove(place: Place): Place[] {
  const bytes = bytesOf(place);
  const all: Place[] = [];
  for (let at = bytes.indexOf(slash, 1); at > 0; at = bytes.indexOf(slash, at + 1)) all.push(placeAt(place.machine, bytes.subarray(0, at)));
  return all;
}

export const nameOf = (place: Place) => place.path.slice(place.path.lastIndexOf("/") + 1) || "/";

/** The query of the API that names a place. */
export const placeQuery = (place: Place) => ({
  machine: place.machine,
  ...(place.path_bytes ? { path_bytes: place.path_bytes } : { path: place.path }),
});

/** What tells one place from another, such as for a list of them. */
export const placeKey = (place: Place) => `${place.machine}:${place.path_bytes ?? ""}:${place.path}`;
