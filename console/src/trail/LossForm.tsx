import { useSearchParams } from "react-router";
import styled from "styled-components";
import { tokens } from "../theme";

const Form = styled.form`
  display: flex;
  flex-wrap: wrap;
  gap: 4px 16px;
  margin-top: 8px;
  font-size: 13px;
  color: ${tokens.quiet};
  input {
    font-size: 14px;
    padding: 2px 6px;
    border: 1px solid ${tokens.rule};
    border-radius: ${tokens.corner};
    background: ${tokens.ground};
    color: ${tokens.ink};
  }
`;

/** When it was last right and when the loss was noticed: what the drawing shades and what times are told from. */
export function LossForm() {
  const [params, setParams] = useSearchParams();
  const change = (name: string) => (e: React.ChangeEvent<HTMLInputElement>) => {
    const value = e.target.value;
    setParams(
      (before) => {
        const next = new URLSearchParams(before);
        next.delete(name);
        if (value) next.set(name, new Date(value).toISOString());
        return next;
      },
      { replace: true },
    );
  };
  return (
    <Form onSubmit={(e) => e.preventDefault()} aria-label="The loss">
      <label>
        Last right <input type="datetime-local" defaultValue={local(params.get("good_at"))} onChange={change("good_at")} />
      </label>
      <label>
        Loss noticed <input type="datetime-local" defaultValue={local(params.get("noticed_at"))} onChange={change("noticed_at")} />
      </label>
    </Form>
  );
}

/** A moment as the field wants it: on this machine's clock, without a zone. */
function local(iso: string | null): string {
  if (!iso) return "";
  const t = new Date(iso);
  return new Date(t.getTime() - t.getTimezoneOffset() * 60_000).toISOString().slice(0, 16);
}
