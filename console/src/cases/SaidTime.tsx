import { useQuery } from "@tanstack/react-query";
import { useDeferredValue } from "react";
import { understood } from "../api/queries";
import { Care, Quiet } from "../parts/controls";

interface Props {
  label: string;
  placeholder: string;
  said: string;
  setSaid: (said: string) => void;
}

/** A time as the user says it, and what it is taken for. */
export function SaidTime({ label, placeholder, said, setSaid }: Props) {
  const asked = useDeferredValue(said);
  const { data, error } = useQuery(understood(asked));
  return (
    <label>
      {label}
      <input value={said} placeholder={placeholder} onChange={(e) => setSaid(e.target.value)} />
      {said.trim() !== "" && data && <Quiet role="status">understood as {data.said}</Quiet>}
      {said.trim() !== "" && error && <Care role="status">{error.next || error.message}</Care>}
    </label>
  );
}
