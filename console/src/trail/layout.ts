// Where things are on the drawn trail: pure computation, in pixels and milliseconds.
import { scaleTime, type ScaleTime } from "d3-scale";
import type { Place, Trail, TrailMark, TrailVersion } from "../api/client";

export interface Span {
  from: number;
  to: number;
}

export type Axis = ScaleTime<number, number>;

export const axisOf = (span: Span, width: number): Axis => scaleTime().domain([span.from, span.to]).range([0, width]);

/** How much room the parts of the drawing take, in pixels. */
export const sizes = { axis: 30, line: 30, lane: 26, label: 168 };

/** What is drawn of a version's copies. */
export const marksOf = (v: TrailVersion | undefined): TrailMark[] => v?.marks ?? [];

export const time = (iso: string) => new Date(iso).getTime();

/** The whole of a trail: from a little before its first capture, so that what arrived earlier shows as such, until now. */
export function wholeSpan(t: Trail, now: number): Span {
  const first = Math.min(...t.versions.map((v) => time(v.first_seen_at)), now - 3600_000);
  const last = Math.max(...t.versions.map((v) => time(v.last_seen_at)), now);
  const room = Math.max((last - first) / 25, 60_000);
  return { from: first - room, to: last + room / 4 };
}

/** The span that shows one version well. */
export function spanOf(v: TrailVersion, whole: Span, now: number): Span {
  const from = time(v.arrived_at);
  const to = v.superseded_at ? time(v.superseded_at) : now;
  const room = Math.max((to - from) / 2, 1800_000);
  return within({ from: from - room, to: to + room }, whole);
}

/** Keeps a span within the whole. */
export const within = (span: Span, whole: Span): Span => ({ from: Math.max(span.from, whole.from), to: Math.min(span.to, whole.to) });

const shortest = 60_000;

/** Zooms by a factor around a moment, never beyond the whole. */
export function zoom(span: Span, whole: Span, around: number, factor: number): Span {
  const length = Math.min(Math.max((span.to - span.from) / factor, shortest), whole.to - whole.from);
  const share = (around - span.from) / (span.to - span.from);
  const from = Math.min(Math.max(around - length * share, whole.from), whole.to - length);
  return { from, to: from + length };
}

/** Shifts a span just so far that a moment lies in it. */
export function reveal(span: Span, whole: Span, moment: number): Span {
  const length = span.to - span.from;
  if (moment >= span.from && moment <= span.to) return span;
  const from = Math.min(Math.max(moment - length / 2, whole.from), whole.to - length);
  return { from, to: from + length };
}

export const samePlace = (a: Place, b: Place) => a.machine === b.machine && a.path === b.path && a.path_bytes === b.path_bytes;

/** The names in the order in which the file had them; each is a line of the trail. */
export function namesOf(t: Trail): Place[] {
  const names: Place[] = [];
  for (const v of t.versions) if (!v.beside && !names.some((n) => samePlace(n, v.place))) names.push(v.place);
  return names;
}

/** Weekends, and nights where the axis shows less than two weeks, as spans of pixels. */
export function quietTimes(axis: Axis): { start: number; end: number; night: boolean }[] {
  const [from, to] = axis.domain() as [Date, Date];
  const days = (to.getTime() - from.getTime()) / 86_400_000;
  if (days > 200) return [];
  const found: { start: number; end: number; night: boolean }[] = [];
  const day = new Date(from.getFullYear(), from.getMonth(), from.getDate());
  for (; day < to; day.setDate(day.getDate() + 1)) {
    const next = new Date(day.getFullYear(), day.getMonth(), day.getDate() + 1);
    if (day.getDay() === 0 || day.getDay() === 6) {
      found.push({ start: axis(day), end: axis(next), night: false });
    } else if (days < 14) {
      found.push({ start: axis(day), end: axis(new Date(day.getFullYear(), day.getMonth(), day.getDate(), 7)), night: true });
      found.push({ start: axis(new Date(day.getFullYear(), day.getMonth(), day.getDate(), 19)), end: axis(next), night: true });
    }
  }
  return found;
}
