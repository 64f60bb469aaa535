import { useQuery } from "@tanstack/react-query";
import { useCallback, useState } from "react";
import { useNavigate, useParams } from "react-router";
import type { Advice, Case, Copy, Schemas } from "../api/client";
import { caseAdvice, caseOf, copy } from "../api/queries";
import { BringBackDialog } from "../bringback/BringBackDialog";
import { Columns, Pane } from "../parts/layout";
import { Failure, Notice } from "../parts/Notice";
import { useInsteadOfTray, useKey } from "../useKeys";
import { AdviceHead, AdvicePart } from "./AdvicePart";
import { Candidates } from "./Candidates";
import { CaseHead, CaseState } from "./CaseHead";
import { CopyPane, type Look } from "./CopyPane";
import { LogPart, ReportPart } from "./DonePart";
import { FirstAidPart } from "./FirstAidPart";
import { Looked } from "./Looked";
import { Log } from "./cases.styles";
import { useAdd, useChange } from "./useCases";
import { trailOf } from "./words";

/** One request for help: what is advised first, then first aid, the reasons, where we looked, and the report. */
export function CasePage() {
  const { id = "" } = useParams();
  const { data, error, isPending, refetch } = useQuery(caseOf(id));
  if (isPending) return <Notice title="Reading the case …" />;
  if (error) return <Failure problem={error} retry={() => void refetch()} />;
  return <Worked key={id} of={data} />;
}

function Worked({ of: k }: { of: Case }) {
  const advice = useQuery(caseAdvice(k.id));
  const [wanted, setWanted] = useState<Copy>();
  const [file, setFile] = useState<string>(); // of a folder
  const [look, setLook] = useState<Look>("peek");
  const [bringing, setBringing] = useState(false);
  const add = useAdd(k.id);
  const change = useChange(k.id);
  const navigate = useNavigate();
  const recommended = advice.data?.recommended ?? undefined;
  const folder = advice.data?.folder;
  const { data: fileCopy } = useQuery(copy(file));
  const chosen = wanted ?? recommended?.copy ?? (file ? fileCopy : undefined);
  const canBring = advice.data !== undefined && (wanted ? wanted.readable : recommended !== undefined && !recommended.standing);

  const show = useCallback((as: Look) => {
    setLook(as);
    document.getElementById("case-pane")?.focus();
  }, []);
  const peek = useCallback(() => show("peek"), [show]);
  const compare = useCallback(() => show("compare"), [show]);
  const bring = useCallback(() => setBringing(true), []);
  const wrong = useCallback(() => {
    if (!chosen) return;
    add.mutate({ kind: "wrong", ref: chosen.id }, { onSuccess: () => (setWanted(undefined), setFile(undefined)) });
  }, [add, chosen]);
  const note = useCallback(() => document.getElementById("case-note")?.focus(), []);
  const trail = useCallback(() => k.place && void navigate(trailOf(k, k.place)), [k, navigate]);
  useInsteadOfTray(canBring);
  useKey("b", bring, canBring);
  useKey("p", peek, chosen !== undefined);
  useKey("c", compare, chosen !== undefined);
  useKey("x", wrong, chosen !== undefined);
  useKey("m", note);
  useKey("t", trail, k.place !== null);
  const answer = (hints: Schemas["Hints"]) => change.mutate({ hints: { ...k.hints, ...hints }, version: k.version });
  const choose = (copy: Copy) => {
    setWanted(copy);
    setLook("peek");
  };
  const read = (id: string) => {
    setWanted(undefined);
    setFile(id);
    show("peek");
  };
  return (
    <Columns $widths="minmax(0, 1fr) minmax(300px, 36%)">
      <Log>
        <CaseHead of={k} />
        {advice.isPending && <Notice title="Examining what the sources hold …" />}
        {advice.error && <Candidates of={k} retry={() => void advice.refetch()} problem={advice.error} />}
        {advice.data && (
          <AdviceHead of={k} advice={advice.data} chosen={chosen} {...{ bring, peek, compare, wrong, choose, read, answer }} />
        )}
        <CaseState of={k} />
        <FirstAidPart id={k.id} />
        {advice.data && (
          <>
            <AdvicePart of={k} advice={advice.data} chosen={chosen} {...{ choose, read }} />
            <Looked advice={advice.data} />
          </>
        )}
        {change.error && <Failure problem={change.error} />}
        {add.error && <Failure problem={add.error} />}
        <ReportPart of={k} />
        <LogPart of={k} />
      </Log>
      <Pane id="case-pane" tabIndex={-1} aria-label="Reading pane">
        {chosen ? (
          <CopyPane
            copy={chosen}
            look={look}
            setLook={setLook}
            at={(!folder && k.place) || undefined}
            keep={() => add.mutate({ kind: "copy", ref: chosen.id })}
          />
        ) : (
          <Notice title="Nothing to read yet.">
            {folder ? "Choose a file of the folder to peek at the copy that would come back." : "What is advised can be peeked at here."}
          </Notice>
        )}
      </Pane>
      {bringing && (
        <BringBackDialog
          what={{ case: k.id, chosen: wanted ? [wanted] : [], files: filesOf(advice.data, wanted) }}
          rule={folder ? "set-aside" : "keep-both"}
          close={() => setBringing(false)}
          done={() => undefined}
        />
      )}
    </Columns>
  );
}

const filesOf = (a: Advice | undefined, wanted: Copy | undefined) =>
  wanted || !a?.folder || a.recommended?.copy ? 1 : a.folder.certain + a.folder.assumed;
