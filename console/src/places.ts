// Places in addresses: the machine and the path, and the path's own bytes where it is not valid UTF-8.
import type { Place } from "./api/client";

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
export const folderLink = (place: Place) => `/folder?${placeParams(place)}`;

/** The folder that a place lies in; its bytes are not known, so a path that is not UTF-8 has none to go to. */
export function parentOf(place: Place): Place {
  const cut = place.path.lastIndexOf("/");
  return { machine: place.machine, path: cut <= 0 ? "/" : place.path.slice(0, cut) };
}

export const nameOf = (place: Place) => place.path.slice(place.path.lastIndexOf("/") + 1) || "/";

/** The query of the API that names a place. */
export const placeQuery = (place: Place) => ({ machine: place.machine, ...(place.path_bytes ? { path_bytes: place.path_bytes } : { path: place.path }) });
