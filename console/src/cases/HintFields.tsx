import styled from "styled-components";
import type { Schemas } from "../api/client";
import { Quiet } from "../parts/controls";
import { Row } from "../parts/layout";

type Hints = Schemas["Hints"];

const Less = styled.details`
  summary { cursor: pointer; }
  label { margin-top: 10px; }
`;

/** What is typed of hints; words and phrases are parted by semicolons, sizes are in KiB. */
export interface TypedHints {
  containing: string;
  without: string;
  least: string;
  most: string;
  media: string;
}

const kinds = [
  ["", "any"],
  ["application/vnd.oasis.opendocument", "an OpenDocument text, spreadsheet or drawing"],
  ["application/vnd.openxmlformats", "an Office Open XML text, spreadsheet or presentation"],
  ["application/pdf", "a PDF"],
  ["image/", "a picture or drawing"],
  ["text/", "plain text"],
  ["audio/", "sound"],
  ["video/", "video"],
] as const;

const phrases = (typed: string) =>
  typed
    .split(";")
    .map((s) => s.trim())
    .filter((s) => s !== "");
const kib = (typed: string) => Math.round(Number(typed) * 1024);
const shownKib = (bytes: number | undefined) => (bytes ? String(bytes / 1024) : "");

/** Reads back what a case says. */
export const typedHints = (h: Hints = {}): TypedHints => ({
  containing: (h.containing ?? []).join("; "),
  without: (h.without ?? []).join("; "),
  least: shownKib(h.least),
  most: shownKib(h.most),
  media: h.media_type ?? "",
});

export function hintsOf(t: TypedHints): Hints {
  const containing = phrases(t.containing);
  const without = phrases(t.without);
  return {
    ...(containing.length > 0 ? { containing } : {}),
    ...(without.length > 0 ? { without } : {}),
    ...(kib(t.least) > 0 ? { least: kib(t.least) } : {}),
    ...(kib(t.most) > 0 ? { most: kib(t.most) } : {}),
    ...(t.media ? { media_type: t.media } : {}),
  };
}

interface Props {
  typed: TypedHints;
  change: (part: Partial<TypedHints>) => void;
}

/** What the wanted content may be. */
export function HintFields({ typed, change }: Props) {
  const more = typed.without + typed.least + typed.most + typed.media !== "";
  return (
    <>
      <label>
        Words that must be in it
        <input value={typed.containing} placeholder="nothing if not known" onChange={(e) => change({ containing: e.target.value })} />
        <Quiet>Several are parted by semicolons; each is looked for as it is written.</Quiet>
      </label>
      <Less open={more || undefined}>
        <summary>More that is known of it</summary>
        <label>
          Words that must not be in it
          <input value={typed.without} onChange={(e) => change({ without: e.target.value })} />
        </label>
        <Row>
          <label>
            At least, in KiB
            <input type="number" min="0" step="any" value={typed.least} onChange={(e) => change({ least: e.target.value })} />
          </label>
          <label>
            At most, in KiB
            <input type="number" min="0" step="any" value={typed.most} onChange={(e) => change({ most: e.target.value })} />
          </label>
        </Row>
        <label>
          What it is, by its content
          <select value={typed.media} onChange={(e) => change({ media: e.target.value })}>
            {kinds.map(([media, said]) => (
              <option key={media} value={media}>
                {said}
              </option>
            ))}
          </select>
        </label>
      </Less>
    </>
  );
}
