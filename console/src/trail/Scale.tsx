import { timeFormat } from "d3-time-format";
import { sizes, type Axis } from "./layout";

/** When a file was last right, and when its loss was noticed, as far as told. */
export interface LossTimes {
  good: string | null;
  noticed: string | null;
}

const formats: [number, (d: Date) => string][] = [
  [400, timeFormat("%b %Y")],
  [3, timeFormat("%-d %b")],
  [0.3, timeFormat("%a %H:%M")],
  [0, timeFormat("%H:%M:%S")],
];

/** The axis: what time it is where, and now. */
export function Ticks({ axis, height, now }: { axis: Axis; height: number; now: number }) {
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
export function Loss({ axis, loss, height, pattern }: { axis: Axis; loss: LossTimes; height: number; pattern: string }) {
  if (!loss.good && !loss.noticed) return null;
  const end = loss.noticed ? axis(new Date(loss.noticed)) : (axis.range()[1] ?? 0);
  const start = loss.good ? axis(new Date(loss.good)) : end;
  return (
    <g>
      <rect
        x={start}
        y={sizes.axis - 8}
        width={Math.max(1, end - start)}
        height={height - sizes.axis + 8}
        fill={`url(#${pattern})`}
        opacity={0.55}
      />
      {[
        [start, loss.good],
        [end, loss.noticed],
      ].map(([x, given]) => given && <path key={String(x)} d={`M${x} ${sizes.axis - 12}V${height}`} className="ink" strokeWidth="1.5" />)}
    </g>
  );
}
