// Which moments the grid shows, and which of them is chosen: pure computation.
import { counted } from "../when";
import type { Folder, FolderRow } from "../api/client";

/** The index of the moment that a folder is shown as of: the last not later than asOf; the number of moments is now. */
export function chosenMoment(moments: Folder["moments"], asOf: string | undefined): number {
  if (!asOf) return moments.length;
  const at = new Date(asOf).getTime();
  let chosen = 0;
  moments.forEach((m, i) => {
    if (new Date(m.at).getTime() <= at) chosen = i;
  });
  return chosen;
}

/** The columns that fit, the chosen one among them: from (inclusive) to (exclusive). */
export function visibleColumns(count: number, fit: number, chosen: number): [number, number] {
  if (count <= fit) return [0, count];
  const from = Math.min(Math.max(chosen - Math.floor(fit / 2), 0), count - fit);
  return [from, from + fit];
}

/**
 * Parts the rows into those that something happens to and those that stand unchanged in all moments. What no moment has, as what is known
 * from a record alone, is left out.
 */
export function partRows(rows: FolderRow[]): { moving: FolderRow[]; still: FolderRow[] } {
  const moving: FolderRow[] = [];
  const still: FolderRow[] = [];
  for (const r of rows) if (/[^.]/.test(r.cells)) (/^[-#]-*$/.test(r.cells) ? still : moving).push(r);
  return { moving, still };
}

/** The days written above the columns: where one begins and there is room, by the column's number. */
export function dayLabels(moments: Folder["moments"], apart: number): Map<number, string> {
  const labels = new Map<number, string>();
  let last = -apart;
  let day = "";
  moments.forEach((m, i) => {
    const own = new Date(m.at).toLocaleDateString("en-GB", { day: "numeric", month: "short" });
    if (own !== day && i - last >= apart) {
      labels.set(i, own);
      last = i;
    }
    day = own;
  });
  return labels;
}

/** What the cells of a row draw, in words. */
export function cellsSaid(cells: string): string {
  const of = (mark: string) => [...cells].filter((c) => c === mark).length;
  const [fresh, moved] = [of("#"), of(">")];
  const there = `there at ${fresh + of("-") + moved} of ${counted(cells.length, "moment")}, new content at ${fresh}`;
  return moved > 0 ? `${there}, moved at ${moved}` : there;
}
