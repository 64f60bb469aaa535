// What is looked at on the trail page, and the keys that change it.
import { useCallback, useMemo, useState } from "react";
import type { Trail } from "../api/client";
import { marksOf, reveal, spanOf, wholeSpan, within, zoom, type Span } from "./layout";

/** Which version and which of its copies is looked at: the advised one first, else the last; a copy that can be read is preferred. */
export function useChoice(trail: Trail, advised: number | undefined) {
  const [chosen, setVersion] = useState<number>();
  const version = chosen ?? (advised !== undefined && advised >= 0 ? advised : trail.versions.length - 1);
  const [wanted, setWanted] = useState<string>();
  const copies = marksOf(trail.versions[version]);
  const copy = copies.find((c) => c.id === wanted) ?? copies.find((c) => c.readable) ?? copies[0];
  const choose = useCallback((v: number, c?: string) => {
    setVersion(v);
    setWanted(c);
  }, []);
  return { version, copies, copy, choose };
}

type Choice = ReturnType<typeof useChoice>;

/** Which part of the time is shown, and what the keys on the drawing do. */
export function useBoard(trail: Trail, now: number, { version, copies, copy, choose }: Choice) {
  const whole = useMemo(() => wholeSpan(trail, now), [trail, now]);
  const [zoomed, setZoomed] = useState<Span>();
  const span = zoomed ?? whole;
  const go = (to: number) => {
    const v = trail.versions[to];
    if (!v) return;
    choose(to);
    setZoomed((s) => s && reveal(s, whole, new Date(v.arrived_at).getTime()));
  };
  const around = () => {
    const v = trail.versions[version];
    const at = v ? new Date(v.arrived_at).getTime() : now;
    return at >= span.from && at <= span.to ? at : (span.from + span.to) / 2;
  };
  const step = (by: number) =>
    choose(version, copies[(copies.findIndex((c) => c.id === copy?.id) + by + copies.length) % copies.length]?.id);
  const keys: Record<string, () => void> = {
    ArrowLeft: () => go(version - 1),
    ArrowRight: () => go(version + 1),
    Home: () => go(0),
    End: () => go(trail.versions.length - 1),
    ArrowUp: () => step(-1),
    ArrowDown: () => step(1),
    Enter: () => document.getElementById("trail-pane")?.focus(),
    "+": () => setZoomed(zoom(span, whole, around(), 2)),
    "=": () => setZoomed(zoom(span, whole, around(), 2)),
    "-": () => setZoomed(zoom(span, whole, around(), 0.5)),
    "0": () => setZoomed(undefined),
    z: () => trail.versions[version] && setZoomed(spanOf(trail.versions[version], whole, now)),
  };
  const press = (e: React.KeyboardEvent) => {
    const act = e.ctrlKey || e.metaKey || e.altKey ? undefined : keys[e.key];
    if (!act) return;
    e.preventDefault();
    act();
  };
  return { span, press, zoomTo: (s: Span) => setZoomed(within(s, whole)) };
}
