// Where things are on the drawn trail: pure computation, in pixels and milliseconds.
import { scaleTime, type ScaleTime } from "d3-scale";
import type { Place, Trail, TrailVersion } from "../api/client";

export interface Span {
  from: number;
  to: number;
}

export type Axis = ScaleTime<number, number>;

export const axisOf = (span: Span, width: number): Axis => scaleTime().domain([span.from, span.to]).range([0, width]);

const time = (iso: string) => new Date(iso).getTime();

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

export interface Bar {
  index: number; // of its version; of a block, of the first
  count: number; // of versions that are too thin to be drawn apart
  start: number;
  solid: number; // until here it is proved
  end: number;
  lane: number; // of its name
  broke: boolean; // its size broke away from the one before
  span: Span;
}

const thinnest = 3; // pixels
const widest = 44; // of a block, so that many of them still show where what was

/** The bars of all versions that the axis shows; those that would be thinner than 3 pixels merge into blocks. */
export function bars(t: Trail, axis: Axis, now: number): Bar[] {
  const names = namesOf(t);
  const [left, right] = axis.range() as [number, number];
  const made: Bar[] = [];
  t.versions.forEach((v, index) => {
    const from = time(v.arrived_at);
    const to = v.superseded_at ? time(v.superseded_at) : Math.max(now, time(v.last_seen_at));
    const start = Math.max(axis(from), left - 2);
    const end = Math.min(axis(to), right + 2);
    if (end < left || start > right) return;
    const lane = names.findIndex((n) => samePlace(n, v.place));
    const bar = { index, count: 1, start, solid: Math.min(Math.max(axis(time(v.last_seen_at)), start), end), end, lane, broke: broke(t, index), span: { from, to } };
    const before = made[made.length - 1];
    const thin = end - start < thinnest;
    if (thin && before && before.lane === lane && start - before.end < thinnest && end - before.start < widest && (before.count > 1 || before.end - before.start < thinnest)) {
      before.count++;
      before.end = Math.max(before.end, end);
      before.solid = before.end;
      before.broke ||= bar.broke;
      before.span.to = to;
    } else {
      made.push(bar);
    }
  });
  return made.map((b) => (b.end - b.start < thinnest ? { ...b, end: b.start + thinnest, solid: b.start + thinnest } : b));
}

/** Whether a version's size differs from the one before by far more than its sizes usually do. */
function broke(t: Trail, index: number): boolean {
  const size = t.versions[index]?.size;
  const before = t.versions[index - 1]?.size;
  if (size == null || before == null || before === 0) return false;
  const steps = t.versions.map((v, i) => Math.abs((v.size ?? 0) - (t.versions[i - 1]?.size ?? v.size ?? 0))).slice(1);
  const usual = [...steps].sort((a, b) => a - b)[Math.floor(steps.length / 2)] ?? 0;
  const step = Math.abs(size - before);
  return step > 4 * usual && step > before / 8;
}

export const samePlace = (a: Place, b: Place) => a.machine === b.machine && a.path === b.path && a.path_bytes === b.path_bytes;

/** The names in the order in which the file had them; each is a line of the trail. */
export function namesOf(t: Trail): Place[] {
  const names: Place[] = [];
  for (const v of t.versions) if (!names.some((n) => samePlace(n, v.place))) names.push(v.place);
  return names;
}

export interface Mark {
  x: number;
  version: number;
  copy: string;
  readable: boolean;
  gone: boolean;
  expires: number | null; // where its tail ends
  count: number;
}

/** The marks of one source: a mark at each of its captures that shows a copy; marks closer than 7 pixels become one. */
export function marks(t: Trail, lane: number, axis: Axis): Mark[] {
  const source = t.lanes[lane];
  if (!source) return [];
  const [left, right] = axis.range() as [number, number];
  const made: Mark[] = [];
  t.versions.forEach((v, version) => {
    for (const c of v.copies) {
      if (c.source.id !== source.source.id) continue;
      const base = { version, copy: c.id, expires: c.expires_at ? axis(time(c.expires_at)) : null, count: 1 };
      if (c.gone_at) {
        made.push({ ...base, x: axis(time(c.gone_at)), readable: c.readable, gone: true });
        continue;
      }
      const first = time(c.captured_at);
      const last = time(c.last_seen_at);
      source.captures.forEach((iso, i) => {
        const at = time(iso);
        if (at >= first && at <= last) made.push({ ...base, x: axis(at), readable: c.readable && (source.held[i] ?? false), gone: false });
      });
    }
  });
  made.sort((a, b) => a.x - b.x);
  const kept: Mark[] = [];
  for (const m of made) {
    if (m.x < left - 4 || m.x > right + 4) continue;
    const before = kept[kept.length - 1];
    if (before && m.x - before.x < 7 && before.version === m.version && before.gone === m.gone) {
      before.count++;
      before.readable ||= m.readable;
    } else {
      kept.push(m);
    }
  }
  return kept;
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
