// A folder that came in pages, put together: pure computation.
import type { Folder, FolderRow } from "../api/client";

/** The pages that are loaded as one folder. Each page tells of the moments of its own entries alone: they become the moments of all. */
export function joined(pages: Folder[]): Folder | undefined {
  const [first] = pages;
  const last = pages[pages.length - 1];
  if (!first || !last || first === last) return first;
  const changed = new Map<string, number>();
  for (const p of pages) for (const m of p.moments) changed.set(m.at, (changed.get(m.at) ?? 0) + m.changed);
  const time = new Map([...changed.keys()].map((at) => [at, Date.parse(at)]));
  const moments = [...changed]
    .map(([at, n]) => ({ at, changed: n }))
    .sort((a, b) => (time.get(a.at) ?? 0) - (time.get(b.at) ?? 0) || (a.at < b.at ? -1 : 1));
  const sum = (of: (p: Folder) => number) => pages.reduce((n, p) => n + of(p), 0);
  return {
    ...last,
    moments,
    rows: pages.flatMap((p) => p.rows.map((r) => ({ ...r, cells: spread(r, p.moments, moments) }))),
    entries: pages.flatMap((p) => p.entries),
    missing: sum((p) => p.missing),
    changed: sum((p) => p.changed),
    added: sum((p) => p.added),
    moved: sum((p) => p.moved),
    same: sum((p) => p.same),
  };
}

/** A row's cells over more moments than its own: between those nothing happens to it. */
function spread(row: FolderRow, own: Folder["moments"], all: Folder["moments"]): string {
  let cells = "";
  let stands = false;
  let k = 0;
  for (const { at } of all) {
    if (own[k]?.at === at) {
      const c = row.cells[k++] ?? ".";
      stands = c === ">" ? !stands : c !== ".";
      cells += c;
    } else {
      cells += stands ? "-" : ".";
    }
  }
  return cells;
}
