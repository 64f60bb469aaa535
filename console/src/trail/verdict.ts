// What advice says of a trail: which version is advised, and why the others fall out.
import type { Advice, Trail } from "../api/client";
import { marksOf } from "./layout";

export interface Verdict {
  version: number; // the advised one; -1 where it is none of the trail's
  copy: string | undefined;
  sentence: string;
  whyNot: Map<number, string>; // by version
}

export function verdictOf(trail: Trail, advice: Advice): Verdict {
  const versionOf = (id: string) => trail.versions.findIndex((v) => marksOf(v).some((c) => c.id === id));
  const recommended = advice.recommended?.copy;
  const version = recommended ? versionOf(recommended.id) : -1;
  const whyNot = new Map<number, string>();
  for (const other of advice.others) {
    const v = versionOf(other.copy.id);
    if (v >= 0 && trail.versions[v]?.content !== trail.versions[version]?.content) whyNot.set(v, other.why);
  }
  const sentence = advice.recommended?.because[0] ?? advice.because[0] ?? "";
  return { version, copy: recommended?.id, sentence, whyNot };
}
