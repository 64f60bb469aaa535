import styled from "styled-components";
import type { PlanItem } from "../api/client";
import { Care, Quiet } from "../parts/controls";
import { PlaceText } from "../parts/PlaceText";
import { tokens } from "../theme";
import { bytes, counted } from "../when";

const Table = styled.table`
  width: 100%;
  margin-top: 16px;
  border-collapse: collapse;
  th { text-align: left; font-weight: 400; color: ${tokens.quiet}; border-bottom: 1px solid ${tokens.rule}; padding: 4px 10px 4px 0; }
  td { vertical-align: top; padding: 7px 10px 7px 0; border-bottom: 1px solid ${tokens.faint}; }
  th:nth-child(2), td:nth-child(2) { text-align: right; white-space: nowrap; }
`;

const does = { move: "Move", copy: "Copy", skip: "Skip", refuse: "Cannot", "set-aside": "Set aside" };

/** The plan, a row an item, with every clash and how it is settled. */
export function PlanTable({ items }: { items: PlanItem[] }) {
  // What needs a look comes first, so that it is seen also where there are too many to show.
  const sorted = items.length > shown ? [...items].sort((a, b) => weight(b) - weight(a)) : items;
  return (
    <>
      <Table aria-label="The plan">
        <thead>
          <tr>
            <th>Does</th>
            <th>Size</th>
            <th>To</th>
          </tr>
        </thead>
        <tbody>
          {sorted.slice(0, shown).map((i) => (
            <tr key={`${i.copy} ${i.to.path}`}>
              <td>{i.action === "refuse" ? <Care>{does.refuse}</Care> : does[i.action]}</td>
              <td>{bytes(i.size)}</td>
              <td>
                {!i.to.machine && <Quiet>stays at </Quiet>}
                <PlaceText place={i.to.machine ? i.to : i.from} />
                {i.clash && <Care as="div">{sentence(i.clash)}</Care>}
                {i.note && <Quiet as="div">{sentence(i.note)}</Quiet>}
                {i.makes && <Quiet as="div">Made again: {i.makes.map((m) => m.path).join(", ")}</Quiet>}
              </td>
            </tr>
          ))}
        </tbody>
      </Table>
      {items.length > shown && <Quiet>and {counted(items.length - shown, "item")} more</Quiet>}
    </>
  );
}

const shown = 300;

const weight = (i: PlanItem) => (i.action === "refuse" ? 2 : i.clash || i.note ? 1 : 0);

function sentence(text: string): string {
  return `${text.charAt(0).toUpperCase()}${text.slice(1)}.`;
}
