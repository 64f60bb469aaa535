import { useQuery } from "@tanstack/react-query";
import { useSearchParams } from "react-router";
import styled from "styled-components";
import type { Schemas } from "../api/client";
import { machines as machinesQuery } from "../api/queries";
import { Plain } from "../parts/controls";
import { tokens } from "../theme";
import { Since } from "./Since";

const Form = styled.form`
  display: grid;
  gap: 10px;
  label { display: grid; gap: 2px; color: ${tokens.quiet}; font-size: 13px; line-height: 19px; }
  label.line { display: flex; gap: 7px; align-items: baseline; }
  @media (max-width: 900px) { grid-template-columns: repeat(auto-fill, minmax(150px, 1fr)); align-items: end; }
  select, input:not([type="checkbox"]) {
    width: 100%;
    color: ${tokens.ink};
    font-size: 15px;
    padding: 5px 6px;
    border: 1px solid ${tokens.rule};
    border-radius: ${tokens.corner};
    background: ${tokens.sheet};
  }
`;

const types = [
  "documents",
  "spreadsheets",
  "drawings",
  "pictures",
  "contacts",
  "calendars",
  "mail",
  "archives",
  "sound",
  "video",
  "programs",
  "folders",
  "other",
];

const sorts = [
  ["", "newest deletion"],
  ["expires", "soonest expiry"],
  ["written", "newest content"],
  ["name", "name"],
  ["size", "largest"],
] as const;

/** The filters; what they say lives in the address, so that a search can be passed on. */
export function Filters() {
  const [params, setParams] = useSearchParams();
  const { data } = useQuery(machinesQuery);
  const people = [...new Set(data?.machines.flatMap((m) => m.people.map((p) => p.name)))].sort();
  const change = (name: string) => (value: string) =>
    setParams((before) => {
      const next = new URLSearchParams(before);
      next.delete(name);
      if (value) next.set(name, value);
      return next;
    });
  const value = (name: string) => params.get(name) ?? "";
  return (
    <Form onSubmit={(e) => e.preventDefault()}>
      <Choice label="Machine" value={value("machine")} change={change("machine")} options={data?.machines.map((m) => m.name) ?? []} />
      <Choice label="Person" value={value("person")} change={change("person")} options={people} />
      <Choice label="Type" value={value("type")} change={change("type")} options={types} />
      <Choice label="State" value={value("state")} change={change("state")} options={["gone", "present", "changed"]} />
      <Choice
        label="Condition"
        value={value("condition")}
        change={change("condition")}
        options={["sound", "doubtful", "broken", "unread"]}
      />
      <Choice
        label="Intact, of traces"
        value={value("intact")}
        change={change("intact")}
        options={["whole", "if-in-one-piece", "in-part", "unread", "wiped", "overwritten"]}
      />
      <Choice label="With a name" value={value("named")} change={change("named")} options={["yes", "no"]} />
      <Choice label="Found in" value={value("source")} change={change("source")} options={kinds(data)} />
      <Since value={value("gone_since")} change={change("gone_since")} />
      <label>
        Under the folder
        <input
          key={value("under")}
          defaultValue={value("under")}
          placeholder="/home/…"
          onBlur={(e) => change("under")(e.target.value.trim())}
          onKeyDown={(e) => e.key === "Enter" && change("under")(e.currentTarget.value.trim())}
        />
      </label>
      <label>
        Order
        <select value={value("sort")} onChange={(e) => change("sort")(e.target.value)}>
          {sorts.map(([id, name]) => (
            <option key={id} value={id}>
              {name}
            </option>
          ))}
        </select>
      </label>
      <label className="line">
        <input type="checkbox" checked={value("records") !== ""} onChange={(e) => change("records")(e.target.checked ? "yes" : "")} />
        known by record alone
      </label>
      <Plain onPress={() => setParams(value("words") ? { words: value("words") } : {})}>Clear filters</Plain>
    </Form>
  );
}

/** The kinds of source that there are. */
function kinds(data: Schemas["MachineList"] | undefined): string[] {
  return [...new Set(data?.machines.flatMap((m) => m.sources.map((s) => s.kind)))].sort();
}

function Choice({ label, value, change, options }: { label: string; value: string; change: (v: string) => void; options: string[] }) {
  return (
    <label>
      {label}
      <select value={value} onChange={(e) => change(e.target.value)}>
        <option value="">any</option>
        {options.map((o) => (
          <option key={o}>{o}</option>
        ))}
      </select>
    </label>
  );
}
