import type { Bar } from "./bars";
import { sizes, type Span } from "./layout";

interface Props {
  bar: Bar;
  hatch: string; // the pattern of what is assumed
  broken: boolean;
  advised: boolean;
  chosen: boolean;
  choose: (version: number) => void;
  zoomTo: (span: Span) => void;
}

/** One version, or a block of versions that are too thin to be drawn apart, which opens by zooming in. */
export function VersionBar({ bar: b, hatch, broken, advised, chosen, choose, zoomTo }: Props) {
  const y = sizes.axis + b.lane * sizes.line;
  const block = b.count > 1;
  const solid = b.solid - b.start;
  const room = (b.span.to - b.span.from) / 4;
  const press = () => (block ? zoomTo({ from: b.span.from - room, to: b.span.to + room }) : choose(b.index));
  return (
    <g onClick={press} className="pick">
      <rect x={b.start} y={y + 4} width={b.end - b.start} height={18} fill={`url(#${hatch})`} className="rule" />
      <rect x={b.start} y={y + 4} width={Math.max(0, solid)} height={18} className="ink" stroke="none" />
      <path d={`M${b.start} ${y + 1}V${y + 25}`} className={block ? "" : "rule"} strokeWidth="1" />
      {b.broke && <path d={`M${b.start - 4} ${y + 1}h8l-4 6z`} className="ink" stroke="none" />}
      {solid > 10 + (block ? 60 : String(b.index + 1).length * 6) && (
        <text x={b.start + 5} y={y + 17} className="onInk">
          {block ? `${b.count} versions` : b.index + 1}
        </text>
      )}
      {block && solid <= 70 && (
        <text x={b.start} y={y + 2} className="quiet" fontSize="10">
          {b.count}
        </text>
      )}
      {!block && broken && <path d={`M${b.end} ${y + 4}h-5l3 3-3 3 3 3-3 3 3 3-3 3h5z`} className="torn" />}
      {!block && advised && <path d={`M${(b.start + b.end) / 2} ${y - 5}l5 5-5 5-5-5z`} className="advised" />}
      {!block && chosen && <rect x={b.start - 3} y={y + 1} width={b.end - b.start + 6} height={24} className="chosen" />}
    </g>
  );
}
