import { useEffect, useState } from "react";
import { useQuery } from "@tanstack/react-query";
import { useSearchParams } from "react-router";
import styled from "styled-components";
import { understood } from "../api/queries";
import { SaidTime } from "../cases/SaidTime";
import { tokens } from "../theme";
import { absolute } from "../when";

const Form = styled.form`
  display: flex;
  flex-wrap: wrap;
  gap: 4px 16px;
  margin-top: 8px;
  font-size: 13px;
  color: ${tokens.quiet};
  label { display: flex; flex-wrap: wrap; gap: 2px 8px; align-items: baseline; }
  input {
    font-size: 14px;
    width: 24ch;
    padding: 2px 6px;
    border: 1px solid ${tokens.rule};
    border-radius: ${tokens.corner};
    background: ${tokens.ground};
    color: ${tokens.ink};
  }
`;

/** When it was last right and when the loss was noticed, as people say it: what the drawing shades and what times are told from. */
export function LossForm() {
  return (
    <Form onSubmit={(e) => e.preventDefault()} aria-label="The loss">
      <Time name="good_at" label="Last right" placeholder="friday evening, 3d ago" />
      <Time name="noticed_at" label="Loss noticed" placeholder="yesterday 17:00" />
    </Form>
  );
}

function Time({ name, label, placeholder }: { name: string; label: string; placeholder: string }) {
  const [params, setParams] = useSearchParams();
  const known = params.get(name);
  const [said, setSaid] = useState(known ? absolute(known) : "");
  const [typed, setTyped] = useState(false);
  const at = useQuery(understood(typed ? said : "")).data?.at;
  const wanted = said.trim() === "" ? null : (at ?? known);
  useEffect(() => {
    if (!typed || wanted === known) return;
    setParams(
      (before) => {
        const next = new URLSearchParams(before);
        next.delete(name);
        if (wanted) next.set(name, wanted);
        return next;
      },
      { replace: true },
    );
  }, [typed, wanted, known, name, setParams]);
  const type = (text: string) => {
    setTyped(true);
    setSaid(text);
  };
  return <SaidTime label={label} placeholder={placeholder} said={said} setSaid={type} quiet={!typed} />;
}
