import type { Trail } from "../api/client";
import { marks } from "./bars";
import type { Axis } from "./layout";

interface Props {
  trail: Trail;
  lane: number;
  axis: Axis;
  y: number;
  width: number;
  version: number; // chosen
  copy: string | undefined; // chosen
  marked: string[]; // for comparison
  choose: (version: number, copy?: string) => void;
}

/** What one source holds: a mark for each capture that shows a copy, filled where it can be read, with a tail until it expires. */
export function Lane({ trail, lane, axis, y, width, version, copy, marked, choose }: Props) {
  return (
    <g>
      <path d={`M0 ${y}H${width}`} className="faint" />
      {marks(trail, lane, axis).map((m, k, all) => {
        const last = all[k + 1]?.copy !== m.copy; // the chosen and the marked copy are shown at the last of their marks
        const look = m.readable ? "ink" : "open";
        return (
          <g key={`${m.copy} ${m.x}`} onClick={() => choose(m.version, m.copy)} className="pick">
            {m.expires !== null && m.readable && <path d={`M${m.x} ${y}H${m.expires}M${m.expires} ${y - 4}v8`} className="rule" />}
            {m.beside ? (
              <path d={`M${m.x} ${y - 6}v12M${m.x - 4} ${y}h8`} className={look} strokeWidth="1.5" />
            ) : m.gone ? (
              <path d={`M${m.x - 5} ${y - 5}h10v10h-10z`} className={look} />
            ) : (
              <ellipse cx={m.x} cy={y} rx={m.count > 1 ? 6 : 4} ry={4} className={look} />
            )}
            {last && m.copy === copy && m.version === version && <circle cx={m.x} cy={y} r={9} className="chosen" />}
            {last && marked.includes(m.copy) && <path d={`M${m.x - 3} ${y - 12}h6l-3 4z`} className="ink" stroke="none" />}
          </g>
        );
      })}
    </g>
  );
}
