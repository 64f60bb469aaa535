import type { Place, Trail } from "../api/client";
import { nameOf, parentOf } from "../places";
import { sizes } from "./layout";

/** What stands at the left of the drawing: the names that the file had, and the source of each lane. */
export function Labels({ trail, names, top }: { trail: Trail; names: Place[]; top: number }) {
  return (
    <>
      {labelsOf(names).map((name, i) => (
        <text key={i} x={0} y={sizes.axis + i * sizes.line + 18} fontWeight={600}>
          {short(name)}
          <title>{name}</title>
        </text>
      ))}
      {trail.lanes.map((lane, i) => (
        <text key={lane.source.id} x={0} y={top + i * sizes.lane + 17} className="quiet">
          {lane.source.kind} {lane.source.id}
          {lane.at_machine !== trail.place.machine && ` on ${lane.at_machine}`}
          {lane.source.drive && ` (${lane.source.drive})`}
        </text>
      ))}
    </>
  );
}

/** What tells the names of a file apart: the name or, where that stayed, the folder. */
function labelsOf(names: Place[]): string[] {
  if (names.length === 1 || new Set(names.map(nameOf)).size > 1) return names.map(nameOf);
  return names.map((n) => `in ${nameOf(parentOf(n))}/`);
}

const short = (name: string) => (name.length > 23 ? `${name.slice(0, 12)}…${name.slice(-10)}` : name);
