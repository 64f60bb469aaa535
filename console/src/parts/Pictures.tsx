import styled from "styled-components";
import type { Comparison, Schemas } from "../api/client";
import { withKey } from "../api/key";
import { tokens } from "../theme";

const Frame = styled.figure`
  position: relative;
  margin: 10px 0;
  img { display: block; width: 100%; border: 1px solid ${tokens.faint}; background: #fff; }
  svg { position: absolute; inset: 0; width: 100%; }
  rect { fill: none; stroke: ${tokens.care}; stroke-width: 2; vector-effect: non-scaling-stroke; }
  figcaption { color: ${tokens.quiet}; font-size: 13px; }
`;

/** Two pictures, what differs framed in both. */
export function Pictures({ d, picture: p }: { d: Comparison; picture: Schemas["ComparedPicture"] }) {
  const sides = [
    { id: d.left.id, name: "first", w: p.left_width, h: p.left_height },
    { id: d.right?.id, name: "second", w: p.right_width, h: p.right_height },
  ];
  return sides.map((s) =>
    s.id ? (
      <Frame key={s.name}>
        <img src={withKey(`/api/v1/copies/${s.id}/picture`)} alt={`The ${s.name} picture`} />
        <svg viewBox={`0 0 ${s.w} ${s.h}`} aria-hidden="true">
          {p.regions.map((r) => (
            <rect key={`${r.x} ${r.y}`} x={r.x} y={r.y} width={r.width} height={r.height} />
          ))}
        </svg>
        <figcaption>
          {s.name}, {s.w} × {s.h} pixels
        </figcaption>
      </Frame>
    ) : null,
  );
}
