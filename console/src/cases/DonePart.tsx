import { useState } from "react";
import styled from "styled-components";
import { Link } from "react-router";
import type { Case } from "../api/client";
import { Plain, Quiet } from "../parts/controls";
import { Row } from "../parts/layout";
import { Failure } from "../parts/Notice";
import { tokens } from "../theme";
import { absolute, ago, zone } from "../when";
import { Form, Lines, Part } from "./cases.styles";
import { useAdd } from "./useCases";
import { entryWord } from "./words";

/** Once something came back, telling the user is the next thing to do. */
const Tell = styled.a`
  &[data-next="true"] {
    border: 1px solid ${tokens.advice};
    border-radius: ${tokens.corner};
    background: ${tokens.advice};
    color: ${tokens.onAdvice};
    padding: 6px 14px;
    text-decoration: none;
  }
  &[data-next="true"]:hover { text-decoration: underline; }
`;

/** What was brought back, and what the user is told. */
export function ReportPart({ of: k }: { of: Case }) {
  const link = (reader: string) => `/api/v1/cases/${k.id}/report?${new URLSearchParams({ reader, format: "html", zone })}`;
  return (
    <Part aria-label="Brought back">
      <h2>Brought back</h2>
      {k.receipts.length === 0 ? <Quiet>Nothing so far.</Quiet> : null}
      <Lines>
        {k.receipts.map((id) => (
          <li key={id}>
            <Link to={`/receipts/${id}`}>Receipt {id}</Link>
          </li>
        ))}
      </Lines>
      <Row>
        <Tell href={link("user")} target="_blank" rel="noreferrer" data-next={k.receipts.length > 0}>
          Report for the user
        </Tell>
        <a href={link("file")} target="_blank" rel="noreferrer">
          Report for the file
        </a>
      </Row>
    </Part>
  );
}

/** Who did what when, and a note. */
export function LogPart({ of: k }: { of: Case }) {
  const [note, setNote] = useState("");
  const add = useAdd(k.id);
  const submit = (e: React.FormEvent) => {
    e.preventDefault();
    if (note.trim()) add.mutate({ kind: "note", text: note.trim() }, { onSuccess: () => setNote("") });
  };
  return (
    <Part aria-label="Who did what">
      <h2>Who did what</h2>
      <Lines>
        {k.entries.map((e) => (
          <li key={e.n}>
            <span>
              {e.by}: {entryWord(e)}
            </span>
            <Quiet title={ago(e.at)}>{absolute(e.at)}</Quiet>
          </li>
        ))}
      </Lines>
      <Form onSubmit={submit} aria-label="Add a note">
        <label>
          Note
          <textarea
            id="case-note"
            rows={2}
            value={note}
            onChange={(e) => setNote(e.target.value)}
            onKeyDown={(e) => e.key === "Enter" && (e.ctrlKey || e.metaKey) && submit(e)}
          />
        </label>
        <Row>
          <Plain type="submit" isDisabled={!note.trim() || add.isPending}>
            Add the note
          </Plain>
          <Quiet>Ctrl+Enter</Quiet>
        </Row>
      </Form>
      {add.error && <Failure problem={add.error} />}
    </Part>
  );
}
