import styled from "styled-components";
import type { Advice, Case, Copy, Schemas } from "../api/client";
import { InText, Key, Mono, Plain, Primary, Quiet } from "../parts/controls";
import { Row } from "../parts/layout";
import { PlaceText } from "../parts/PlaceText";
import { tokens } from "../theme";
import { Allowed } from "../useRight";
import { absolute, bytes, counted } from "../when";
import { Part, stacked } from "./cases.styles";
import { FolderAdvicePart } from "./FolderAdvicePart";
import { Said } from "./Looked";

const Box = styled.div`
  border-left: 3px solid ${tokens.advice};
  padding: 4px 14px;
  margin: 6px 0;
`;

const Others = styled.table`
  width: 100%;
  border-collapse: collapse;
  margin-top: 4px;
  td { padding: 4px 12px 4px 0; border-top: 1px solid ${tokens.faint}; vertical-align: top; overflow-wrap: anywhere; }
  td:not(:last-child) { white-space: nowrap; width: 1%; }
  tr[data-chosen="true"] td:first-child { box-shadow: inset 3px 0 0 ${tokens.ink}; padding-left: 8px; }
  ${stacked}
`;

export interface Acts {
  bring: () => void;
  peek: () => void;
  compare: () => void;
  wrong: () => void;
  choose: (copy: Copy) => void;
  read: (copy: string) => void;
}

interface Props extends Acts {
  of: Case;
  advice: Advice;
  chosen: Copy | undefined;
}

const Head = styled.p`
  font-size: 17px;
  line-height: 24px;
`;

const Mark = styled.span`
  white-space: nowrap;
  padding: 0 7px;
  margin-right: 8px;
  border: 1px solid ${tokens.rule};
  border-radius: ${tokens.corner};
  font-size: 14px;
`;

// Ink means certainty, as in the drawn trail.
const sureMarks = { certain: "■ certain", likely: "▨ likely", open: "□ open" };

interface HeadProps extends Props {
  answer: (hints: Schemas["Hints"]) => void;
}

/** What to bring back and how sure that is, in a line, with what can be done about it. */
export function AdviceHead({ of: k, advice, chosen, bring, peek, compare, wrong, answer }: HeadProps) {
  const r = advice.recommended;
  const standing = r?.standing === true;
  const own = !r?.copy || chosen?.id === r.copy.id;
  const Bring = k.receipts.length > 0 ? Plain : Primary; // then the report is next
  return (
    <Box role="region" aria-label="Advice">
      <Head>
        {r && <Mark>{sureMarks[r.sure]}</Mark>}
        {headline(advice)}
      </Head>
      {r?.copy && !standing && r.to && <PlaceText place={r.to} />}
      {!r && <Said head="Why nothing is recommended" all={advice.because} />}
      <Row>
        {(r || chosen) && !(own && standing) && (
          <Allowed right="bring-back">
            <Bring onPress={bring}>
              Bring back {own ? "" : chosen?.id}
              <Key aria-hidden>b</Key>
            </Bring>
          </Allowed>
        )}
        {chosen && (
          <>
            <Plain onPress={peek}>
              Peek<Key aria-hidden>p</Key>
            </Plain>
            <Plain onPress={compare}>
              Compare with now<Key aria-hidden>c</Key>
            </Plain>
            <Plain onPress={wrong}>
              Not this one<Key aria-hidden>x</Key>
            </Plain>
          </>
        )}
      </Row>
      {advice.question && <AskPart question={advice.question} answer={answer} />}
    </Box>
  );
}

/** The one question that settles between two copies. */
function AskPart({ question: q, answer }: { question: Schemas["AdviceQuestion"]; answer: (hints: Schemas["Hints"]) => void }) {
  return (
    <div role="group" aria-label="A question to the user">
      <p>
        Ask the user: <strong>{q.text}</strong>
      </p>
      <Row>
        {q.answers.map(({ text, copy, hints }) => (
          <Plain key={text} isDisabled={!hints} onPress={() => hints && answer(hints)}>
            {text}: it is {copy}
          </Plain>
        ))}
      </Row>
    </div>
  );
}

/** Why it is that copy, what it costs, and the runners-up. */
export function AdvicePart({ of: k, advice, chosen, choose, read }: Pick<Props, "of" | "advice" | "chosen" | "choose" | "read">) {
  const r = advice.recommended;
  return (
    <Part aria-label="Reasons">
      {r && (
        <>
          <Said head="Because" all={r.because} />
          <Said head="What it costs" all={r.costs} />
        </>
      )}
      {advice.found_at.length > 0 && <Said head="Where it is now" all={advice.found_at.map((p) => `${p.machine}:${p.path}`)} />}
      {k.wrong.length > 0 && <Quiet>Said not to be the one: {k.wrong.join(", ")}.</Quiet>}
      {advice.folder && <FolderAdvicePart place={advice.place} folder={advice.folder} chosen={chosen?.id} read={read} />}
      {advice.others.length > 0 && <RunnersUp advice={advice} chosen={chosen} choose={choose} />}
    </Part>
  );
}

function headline(a: Advice): string {
  const r = a.recommended;
  if (!r) return a.found_at.length > 0 ? "It is not lost." : "Nothing is recommended.";
  if (r.standing) return r.copy ? `It is there: copy ${r.copy.id}, ${r.copy.condition.state}.` : "It is there.";
  if (!r.copy) {
    const files = counted((a.folder?.certain ?? 0) + (a.folder?.assumed ?? 0), "file");
    return `Bring back ${files}${a.folder?.as_of ? ` as the folder was on ${absolute(a.folder.as_of)}` : ""}.`;
  }
  if (r.captured_at) return `Bring back copy ${r.copy.id} whole from ${r.copy.source.kind}, as it was on ${absolute(r.captured_at)}, to`;
  const written = r.copy.written_at ? `, written ${absolute(r.copy.written_at)}` : "";
  return `Bring back copy ${r.copy.id} from ${r.copy.source.kind}, ${r.copy.condition.state}, ${bytes(r.copy.size)}${written}, to`;
}

function RunnersUp({ advice, chosen, choose }: { advice: Advice; chosen: Copy | undefined; choose: (copy: Copy) => void }) {
  const first = advice.recommended?.copy;
  return (
    <details open={advice.recommended === null || undefined}>
      <summary>{advice.others.length} others, and why not</summary>
      <Others aria-label="Others">
        <tbody>
          {first && (
            <tr data-chosen={chosen?.id === first.id}>
              <Cells copy={first} why="The advised one." choose={choose} />
            </tr>
          )}
          {advice.others.map((o) => (
            <tr key={o.copy.id} data-chosen={chosen?.id === o.copy.id}>
              <Cells copy={o.copy} why={o.why} choose={choose} />
            </tr>
          ))}
        </tbody>
      </Others>
    </details>
  );
}

function Cells({ copy, why, choose }: { copy: Copy; why: string; choose: (copy: Copy) => void }) {
  return (
    <>
      <td>
        <InText onPress={() => choose(copy)}>
          <Mono>{copy.id}</Mono>
        </InText>
      </td>
      <td>{copy.source.kind}</td>
      <td>{copy.condition.state}</td>
      <td>{bytes(copy.size)}</td>
      <td>
        <Quiet>{why}</Quiet>
      </td>
    </>
  );
}
