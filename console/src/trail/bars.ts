// The bars of versions on the drawn trail, and the marks of what each source holds of them: pure computation, in pixels.
import type { Trail } from "../api/client";
import { marksOf, namesOf, samePlace, time, type Axis, type Span } from "./layout";

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
    if (v.beside) return;
    const from = time(v.arrived_at);
    const to = v.superseded_at ? time(v.superseded_at) : Math.max(now, time(v.last_seen_at));
    const start = Math.max(axis(from), left - 2);
    const end = Math.min(axis(to), right + 2);
    if (end < left || start > right) return;
    const lane = names.findIndex((n) => samePlace(n, v.place));
    const bar = {
      index,
      count: 1,
      start,
      solid: Math.min(Math.max(axis(time(v.last_seen_at)), start), end),
      end,
      lane,
      broke: broke(t, index),
      span: { from, to },
    };
    const before = made[made.length - 1];
    const thin = end - start < thinnest;
    if (
      thin &&
      before &&
      before.lane === lane &&
      start - before.end < thinnest &&
      end - before.start < widest &&
      (before.count > 1 || before.end - before.start < thinnest)
    ) {
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

export interface Mark {
  x: number;
  version: number;
  copy: string;
  readable: boolean;
  gone: boolean;
  beside: boolean; // it is not known to have stood there
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
    for (const c of marksOf(v)) {
      if (c.lane !== lane) continue;
      const beside = v.beside ?? false;
      const base = { version, copy: c.id, expires: c.expires_at ? axis(time(c.expires_at)) : null, count: 1, beside };
      if (beside) {
        made.push({ ...base, x: axis(time(v.arrived_at)), readable: c.readable, gone: false });
        continue;
      }
      if (c.gone_at) {
        made.push({ ...base, x: axis(time(c.gone_at)), readable: c.readable, gone: true });
        continue;
      }
      const first = time(c.captured_at);
      const last = time(c.last_seen_at);
      if (!source.captures.some((iso) => time(iso) >= first && time(iso) <= last)) {
        made.push({ ...base, x: axis(first), readable: c.readable, gone: false }); // its store tells when it came
      }
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
