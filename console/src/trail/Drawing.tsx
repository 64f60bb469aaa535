import { useId } from "react";
import styled from "styled-components";
import type { Trail } from "../api/client";
import { tokens } from "../theme";
import { bars } from "./bars";
import { Labels } from "./Labels";
import { Lane } from "./Lane";
import { axisOf, marksOf, namesOf, quietTimes, samePlace, sizes, type Axis, type Span } from "./layout";
import { Loss, Ticks, type LossTimes } from "./Scale";
import type { Verdict } from "./verdict";
import { VersionBar } from "./VersionBar";

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
  loss: LossTimes;
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
      <Labels trail={trail} names={names} top={lanesTop} />
      <g transform={`translate(${sizes.label} 0)`} clipPath={`url(#${clip})`}>
        {quietTimes(axis).map((q) => (
          <rect
            key={`${q.start}`}
            x={q.start}
            y={sizes.axis - 6}
            width={Math.max(0, q.end - q.start)}
            height={height - sizes.axis + 6}
            className="rest"
            opacity={q.night ? 0.6 : 1}
          />
        ))}
        <Loss axis={axis} loss={loss} height={height} pattern={ruled} />
        <Ticks axis={axis} height={height} now={now} />
        {bars(trail, axis, now).map((b) => (
          <VersionBar
            key={b.index}
            bar={b}
            hatch={hatch}
            broken={isBroken(trail, b.index)}
            advised={b.index === verdict?.version}
            chosen={b.index === version}
            {...{ choose, zoomTo }}
          />
        ))}
        <Steps trail={trail} axis={axis} />
        {trail.lanes.map((lane, i) => (
          <Lane
            key={lane.source.id}
            y={lanesTop + i * sizes.lane + 13}
            width={inner}
            {...{ trail, axis, version, copy, marked, choose }}
            lane={i}
          />
        ))}
      </g>
    </Svg>
  );
}

/** Whether a version was examined and found broken: its bar has a torn end. */
const isBroken = (trail: Trail, version: number) => marksOf(trail.versions[version]).some((m) => m.condition === "broken");

/** The steps from one name to the next. */
function Steps({ trail, axis }: { trail: Trail; axis: Axis }) {
  const names = namesOf(trail);
  const onLine = trail.versions.filter((v) => !v.beside);
  const lines = onLine.map((v) => sizes.axis + names.findIndex((n) => samePlace(n, v.place)) * sizes.line + 13);
  return onLine.map((v, i) => {
    const from = lines[i - 1];
    if (from === undefined || from === lines[i]) return null;
    return <path key={i} d={`M${axis(new Date(v.arrived_at))} ${from}V${lines[i]}`} className="ink" strokeWidth="1.5" />;
  });
}
