import { useQuery } from "@tanstack/react-query";
import { useDeferredValue } from "react";
import { understood } from "../api/queries";
import { Care, Quiet } from "../parts/controls";

interface Props {
  label: string;
  placeholder: string;
  said: string;
  setSaid: (said: string) => void;
  /** It is not said what it is taken for. */
  quiet?: boolean;
}

/** A time as the user says it, and what it is taken for. */
export function SaidTime({ label, placeholder, said, setSaid, quiet = false }: Props) {
  const asked = useDeferredValue(quiet ? "" : said);
  const { data, error } = useQuery(understood(asked));
  return (
    <label>
      {label}
      <input value={said} placeholder={placeholder} onChange={(e) => setSaid(e.target.value)} />
      {!quiet && said.trim() !== "" && data && <Quiet role="status">understood as {data.said}</Quiet>}
      {!quiet && said.trim() !== "" && error && <Care role="status">{error.next || error.message}</Care>}
    </label>
  );
}
