import { timeFormat } from "d3-time-format";
import { useId } from "react";
import styled from "styled-components";
import type { Place, Trail } from "../api/client";
import { nameOf, parentOf } from "../places";
import { tokens } from "../theme";
import type { Verdict } from "./verdict";
import { axisOf, bars, marks, namesOf, quietTimes, type Axis, type Span } from "./layout";

export const sizes = { axis: 30, line: 30, lane: 26, label: 168 };

const Svg = styled.svg`
  display: block;
  font: 12px ${tokens.text};
  fill: ${tokens.ink};
  .quiet { fill: ${tokens.quiet}; }
  .rule { stroke: ${tokens.rule}; }
  .faint { stroke: ${tokens.faint}; }
  .rest { fill: ${tokens.ground}; }
  .ink { fill: ${tokens.ink}; stroke: ${tokens.ink}; }
  .open { fill: ${tokens.sheet}; stroke: ${tokens.ink}; }
  .ground { fill: ${tokens.sheet}; }
  .advised { fill: ${tokens.advice}; }
  .torn { fill: ${tokens.sheet}; stroke: ${tokens.ink}; }
  .chosen { fill: none; stroke: ${tokens.advice}; stroke-width: 2; }
  .onInk { fill: ${tokens.sheet}; }
  .pick { cursor: pointer; }
`;

interface Props {
  trail: Trail;
  width: number;
  span: Span;
  now: number;
  version: number; // chosen
  copy: string | undefined; // chosen
  marked: string[]; // for comparison
  loss: { good: string | null; noticed: string | null };
  verdict: Verdict | undefined;
  choose: (version: number, copy?: string) => void;
  zoomTo: (span: Span) => void;
}

/** The trail drawn: ink is what is proved, hatching what is assumed, nothing where nobody looked. */
export function Drawing({ trail, width, span, now, version, copy, marked, loss, verdict, choose, zoomTo }: Props) {
  const hatch = useId();
  const ruled = useId();
  const clip = useId();
  const names = namesOf(trail);
  const inner = Math.max(120, width - sizes.label - 8);
  const axis = axisOf(span, inner);
  const lanesTop = sizes.axis + names.length * sizes.line + 10;
  const height = lanesTop + trail.lanes.length * sizes.lane + 6;
  return (
    <Svg width={width} height={height} aria-hidden="true">
      <defs>
        <pattern id={hatch} width="5" height="5" patternUnits="userSpaceOnUse" patternTransform="rotate(45)">
          <rect width="5" height="5" className="ground" />
          <rect width="2" height="5" className="ink" stroke="none" />
        </pattern>
        <pattern id={ruled} width="4" height="4" patternUnits="userSpaceOnUse">
          <path d="M0 0V4" className="rule" strokeWidth="1" />
        </pattern>
        <clipPath id={clip}>
          <rect x="-6" y="0" width={inner + 12} height={height} />
        </clipPath>
      </defs>
      <Labels trail={trail} names={labelsOf(names)} top={lanesTop} />
      <g transform={`translate(${sizes.label} 0)`} clipPath={`url(#${clip})`}>
        {quietTimes(axis).map((q) => (
          <rect key={`${q.start}`} x={q.start} y={sizes.axis - 6} width={Math.max(0, q.end - q.start)} height={height - sizes.axis + 6} className="rest" opacity={q.night ? 0.6 : 1} />
        ))}
        <Loss axis={axis} loss={loss} height={height} pattern={ruled} />
        <Ticks axis={axis} height={height} now={now} />
        {bars(trail, axis, now).map((b) => {
          const y = sizes.axis + b.lane * sizes.line;
          const block = b.count > 1;
          const press = () => (block ? zoomTo({ from: b.span.from - (b.span.to - b.span.from) / 4, to: b.span.to + (b.span.to - b.span.from) / 4 }) : choose(b.index));
          return (
            <g key={b.index} onClick={press} className="pick">
              <rect x={b.start} y={y + 4} width={b.end - b.start} height={18} fill={`url(#${hatch})`} className="rule" />
              <rect x={b.start} y={y + 4} width={Math.max(0, b.solid - b.start)} height={18} className="ink" stroke="none" />
              <path d={`M${b.start} ${y + 1}V${y + 25}`} className={block ? "" : "rule"} strokeWidth="1" />
              {b.broke && <path d={`M${b.start - 4} ${y + 1}h8l-4 6z`} className="ink" stroke="none" />}
              {b.solid - b.start > 10 + (block ? 60 : String(b.index + 1).length * 6) && (
                <text x={b.start + 5} y={y + 17} className="onInk">
                  {block ? `${b.count} versions` : b.index + 1}
                </text>
              )}
              {block && b.solid - b.start <= 70 && (
                <text x={b.start} y={y + 2} className="quiet" fontSize="10">
                  {b.count}
                </text>
              )}
              {!block && isBroken(trail, b.index) && <path d={`M${b.end} ${y + 4}h-5l3 3-3 3 3 3-3 3 3 3-3 3h5z`} className="torn" />}
              {!block && b.index === verdict?.version && <path d={`M${(b.start + b.end) / 2} ${y - 5}l5 5-5 5-5-5z`} className="advised" />}
              {!block && b.index === version && <rect x={b.start - 3} y={y + 1} width={b.end - b.start + 6} height={24} className="chosen" />}
            </g>
          );
        })}
        <Steps trail={trail} axis={axis} />
        {trail.lanes.map((lane, i) => (
          <g key={lane.source.id}>
            <path d={`M0 ${lanesTop + i * sizes.lane + 13}H${inner}`} className="faint" />
            {marks(trail, i, axis).map((m, k, all) => {
              const y = lanesTop + i * sizes.lane + 13;
              return (
                <g key={`${m.copy} ${m.x}`} onClick={() => choose(m.version, m.copy)} className="pick">
                  {m.expires !== null && m.readable && <path d={`M${m.x} ${y}H${m.expires}M${m.expires} ${y - 4}v8`} className="rule" />}
                  {m.gone ? (
                    <path d={`M${m.x - 5} ${y - 5}h10v10h-10z`} className={m.readable ? "ink" : "open"} />
                  ) : (
                    <ellipse cx={m.x} cy={y} rx={m.count > 1 ? 6 : 4} ry={4} className={m.readable ? "ink" : "open"} />
                  )}
                  {m.copy === copy && m.version === version && all[k + 1]?.copy !== copy && <circle cx={m.x} cy={y} r={9} className="chosen" />}
                  {marked.includes(m.copy) && all[k + 1]?.copy !== m.copy && <path d={`M${m.x - 3} ${y - 12}h6l-3 4z`} className="ink" stroke="none" />}
                </g>
              );
            })}
          </g>
        ))}
      </g>
    </Svg>
  );
}

/** Whether a version was examined and found broken: its bar has a torn end. */
const isBroken = (trail: Trail, version: number) => trail.versions[version]?.copies.some((c) => c.condition.state === "broken") === true;

function Labels({ trail, names, top }: { trail: Trail; names: string[]; top: number }) {
  return (
    <>
      {names.map((name, i) => (
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

const formats: [number, (d: Date) => string][] = [
  [400, timeFormat("%b %Y")],
  [3, timeFormat("%-d %b")],
  [0.3, timeFormat("%a %H:%M")],
  [0, timeFormat("%H:%M:%S")],
];

function Ticks({ axis, height, now }: { axis: Axis; height: number; now: number }) {
  const [from, to] = axis.domain() as [Date, Date];
  const days = (to.getTime() - from.getTime()) / 86_400_000;
  const format = formats.find(([least]) => days >= least)?.[1] ?? String;
  const end = axis(now);
  const width = axis.range()[1] ?? 0;
  return (
    <g>
      {axis.ticks(Math.max(2, Math.floor(width / 110))).map((t) => {
        const x = axis(t);
        return (
          <g key={t.getTime()}>
            <path d={`M${x} ${sizes.axis - 8}V${height}`} className="faint" />
            {x < end - 54 && x > 24 && (
              <text x={x} y={14} textAnchor="middle" className="quiet">
                {format(t)}
              </text>
            )}
          </g>
        );
      })}
      <path d={`M0 ${sizes.axis - 8}H${width}`} className="rule" />
      {end <= width + 1 && (
        <>
          <path d={`M${end} ${sizes.axis - 12}V${height}`} className="rule" />
          <text x={end} y={14} textAnchor="end">
            now
          </text>
        </>
      )}
    </g>
  );
}

/** The loss: a ruled band from when it was last right to when it was noticed. */
function Loss({ axis, loss, height, pattern }: { axis: Axis; loss: Props["loss"]; height: number; pattern: string }) {
  if (!loss.good && !loss.noticed) return null;
  const end = loss.noticed ? axis(new Date(loss.noticed)) : (axis.range()[1] ?? 0);
  const start = loss.good ? axis(new Date(loss.good)) : end;
  return (
    <g>
      <rect x={start} y={sizes.axis - 8} width={Math.max(1, end - start)} height={height - sizes.axis + 8} fill={`url(#${pattern})`} opacity={0.55} />
      {[
        [start, loss.good],
        [end, loss.noticed],
      ].map(([x, given]) => given && <path key={String(x)} d={`M${x} ${sizes.axis - 12}V${height}`} className="ink" strokeWidth="1.5" />)}
    </g>
  );
}

/** The steps from one name to the next. */
function Steps({ trail, axis }: { trail: Trail; axis: Axis }) {
  const names = namesOf(trail);
  const laneOf = (i: number) => names.findIndex((n) => n.path === trail.versions[i]?.place.path && n.machine === trail.versions[i]?.place.machine);
  return (
    <>
      {trail.versions.slice(1).map((v, i) => {
        const [a, b] = [laneOf(i), laneOf(i + 1)];
        if (a === b) return null;
        const x = axis(new Date(v.arrived_at));
        return <path key={i} d={`M${x} ${sizes.axis + a * sizes.line + 13}V${sizes.axis + b * sizes.line + 13}`} className="ink" strokeWidth="1.5" />;
      })}
    </>
  );
}
