import { describe, expect, it } from "vitest";
import { bytesOf, folderLink, foldersAbove, nameOf, parentOf, placeKey, placeOf, placeQuery } from "./places";

const loft = (path: string, ...bytes: number[]) => ({
  machine: "loft",
  path,
  ...(bytes.length ? { path_bytes: btoa(String.fromCharCode(...bytes)) } : {}),
});

const ascii = (text: string) => [...text].map((c) => c.charCodeAt(0));

describe("places by their bytes", () => {
  it("a backslash in a name is a character like others", () => {
    const place = loft("/home/oda/a\\b/Keel.svg");
    expect(parentOf(place)).toEqual(loft("/home/oda/a\\b"));
    expect(foldersAbove(place).map((p) => p.path)).toEqual(["/home", "/home/oda", "/home/oda/a\\b"]);
    expect(nameOf(place)).toBe("Keel.svg");
  });

  it("a broken byte above stays what it is, and what is shown of it does not become the path", () => {
    const place = loft("/oda/Mole\\xe9/a\\\\b/é.txt", ...ascii("/oda/Mole"), 0xe9, ...ascii("/a\\b/"), 0xc3, 0xa9, ...ascii(".txt"));
    const folders = foldersAbove(place);
    expect(folders.map((p) => p.path)).toEqual(["/oda", "/oda/Mole\\xe9", "/oda/Mole\\xe9/a\\\\b"]);
    expect(folders[0]).toEqual(loft("/oda"));
    expect([...bytesOf(folders[1] ?? place)]).toEqual([...ascii("/oda/Mole"), 0xe9]);
    expect(parentOf(place)).toEqual(folders[2]);
  });

  it("a folder whose name only looks like a broken byte is another than one with it", () => {
    const broken = loft("/Mole\\xe9", ...ascii("/Mole"), 0xe9);
    const spelt = loft("/Mole\\xe9");
    expect(placeKey(broken)).not.toBe(placeKey(spelt));
    expect(folderLink(broken)).not.toBe(folderLink(spelt));
    expect(placeQuery(spelt)).toEqual({ machine: "loft", path: "/Mole\\xe9" });
  });

  it("an address gives back the place that it was made of", () => {
    for (const place of [loft("/a b/ü?&#"), loft("/"), loft("/Mole\\xe9", ...ascii("/Mole"), 0xe9)]) {
      expect(placeOf(new URLSearchParams(folderLink(place, "2026-11-28T10:00:00Z").split("?")[1]))).toEqual(place);
    }
  });

  it("the root is its own folder, and has none above", () => {
    expect(parentOf(loft("/"))).toEqual(loft("/"));
    expect(parentOf(loft("/home"))).toEqual(loft("/"));
    expect(foldersAbove(loft("/home"))).toEqual([]);
    expect(nameOf(loft("/"))).toBe("/");
  });
});
