import { describe, expect, it } from "vitest";
import type { Trail, TrailMark, TrailVersion } from "../api/client";
import { bars, marks } from "./bars";
import { axisOf, namesOf, reveal, wholeSpan, zoom } from "./layout";

const hour = 3600_000;
const start = Date.UTC(2026, 8, 7);
const at = (h: number) => new Date(start + h * hour).toISOString();

function version(from: number, seen: number, to: number | null, path = "/home/ines/Quote.odt", size = 1000): TrailVersion {
  const mark: TrailMark = { id: `c${from}`, lane: 0, captured_at: at(from), last_seen_at: at(seen), readable: true };
  return {
    sha256: null,
    size,
    written_at: at(from),
    arrived_at: at(from),
    first_seen_at: at(from),
    last_seen_at: at(seen),
    superseded_at: to === null ? null : at(to),
    current: to === null,
    copies: [],
    marks: [mark],
    place: { machine: "front-office", path },
    type: "file",
    content: from,
  };
}

function trail(versions: TrailVersion[], captures: number[]): Trail {
  return {
    place: { machine: "front-office", path: "/home/ines/Quote.odt" },
    names: [],
    versions,
    events: [],
    notes: [],
    zone: "UTC",
    lanes: [
      {
        source: { id: "s1", kind: "snapshots" },
        at: "/srv",
        at_machine: "store",
        live: false,
        captures: captures.map(at),
        held: captures.map((c) => c !== 10),
      },
    ],
  };
}

describe("the drawn trail", () => {
  const now = start + 100 * hour;

  it("is solid as far as a version is proved, and ends where another takes its place", () => {
    const t = trail([version(0, 20, 40), version(40, 90, null)], [0, 10, 20, 90]);
    const axis = axisOf({ from: start, to: now }, 1000);
    const drawn = bars(t, axis, now);
    expect(drawn.map((b) => [Math.round(b.start), Math.round(b.solid), Math.round(b.end)])).toEqual([
      [0, 200, 400],
      [400, 900, 1000],
    ]);
  });

  it("stays readable with one version and with four hundred", () => {
    const many = Array.from({ length: 400 }, (_, i) => version(i * 0.2, i * 0.2 + 0.1, i === 399 ? null : (i + 1) * 0.2));
    const whole = wholeSpan(trail(many, []), now);
    const far = bars(trail(many, []), axisOf(whole, 600), now);
    expect(far.length).toBeLessThan(250);
    expect(far.reduce((n, b) => n + b.count, 0)).toBe(400);
    expect(Math.min(...far.map((b) => b.end - b.start))).toBeGreaterThanOrEqual(3);
    const near = bars(trail(many, []), axisOf({ from: start + 10 * hour, to: start + 14 * hour }, 600), now);
    expect(near.every((b) => b.count === 1)).toBe(true);
    expect(bars(trail([version(0, 90, null)], []), axisOf(whole, 600), now)).toHaveLength(1);
  });

  it("marks a size that broke away from its habit", () => {
    const sizes = [1000, 1010, 1021, 1030, 200];
    const t = trail(
      sizes.map((s, i) => version(i * 10, i * 10 + 5, i === 4 ? null : i * 10 + 10, undefined, s)),
      [],
    );
    expect(bars(t, axisOf({ from: start, to: now }, 1000), now).map((b) => b.broke)).toEqual([false, false, false, false, true]);
  });

  it("puts each name on a line of its own", () => {
    const t = trail([version(0, 20, 40, "/home/ines/Old.odt"), version(40, 90, null)], []);
    expect(namesOf(t).map((n) => n.path)).toEqual(["/home/ines/Old.odt", "/home/ines/Quote.odt"]);
    expect(bars(t, axisOf({ from: start, to: now }, 1000), now).map((b) => b.lane)).toEqual([0, 1]);
  });

  it("marks each capture that shows a copy, open where only the record is left", () => {
    const t = trail([version(0, 20, null)], [0, 10, 20, 90]);
    expect(marks(t, 0, axisOf({ from: start, to: now }, 1000)).map((m) => [Math.round(m.x), m.readable])).toEqual([
      [0, true],
      [100, false],
      [200, true],
    ]);
  });

  it("zooms around a moment and never leaves the whole", () => {
    const whole = { from: 0, to: 1000 * hour };
    const closer = zoom(whole, whole, 250 * hour, 2);
    expect(closer.to - closer.from).toBe(500 * hour);
    expect((250 * hour - closer.from) / (closer.to - closer.from)).toBeCloseTo(0.25);
    expect(zoom(closer, whole, 250 * hour, 0.01)).toEqual(whole);
    expect(reveal(closer, whole, 999 * hour).to).toBe(whole.to);
  });
});
