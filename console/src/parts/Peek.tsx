import { useQuery } from "@tanstack/react-query";
import styled from "styled-components";
import type { Preview } from "../api/client";
import { preview } from "../api/queries";
import { withKey } from "../api/key";
import { tokens } from "../theme";
import { bytes } from "../when";
import { Mono, Quiet } from "./controls";
import { Failure, Notice } from "./Notice";

const Text = styled.pre`
  margin: 8px 0 0;
  font: 13px/19px ${tokens.mono};
  white-space: pre-wrap;
  overflow-wrap: anywhere;
  border-left: 1px solid ${tokens.faint};
  padding-left: 12px;
  tab-size: 12;
`;

const Picture = styled.img`
  display: block;
  margin-top: 8px;
  max-width: 100%;
  max-height: 46vh;
  border: 1px solid ${tokens.faint};
  background: #fff;
`;

const Listing = styled.table`
  margin-top: 8px;
  border-collapse: collapse;
  width: 100%;
  td { border-top: 1px solid ${tokens.faint}; padding: 4px 0; overflow-wrap: anywhere; }
  td:last-child { text-align: right; white-space: nowrap; }
`;

const Scrolled = styled.div`
  overflow: auto;
  max-height: 60vh;
  margin-top: 8px;
`;

const SheetTable = styled.table`
  border-collapse: collapse;
  font-size: 14px;
  caption { text-align: left; padding: 2px 0; color: ${tokens.quiet}; }
  td { border: 1px solid ${tokens.faint}; padding: 3px 8px; vertical-align: top; white-space: nowrap; max-width: 36ch; overflow: hidden; text-overflow: ellipsis; }
  td[data-number="true"] { text-align: right; font-variant-numeric: tabular-nums; }
`;

const isNumber = (cell: string) => /^[-+]?[\d.,\s]+ ?[%€]?$/.test(cell);

/** The cells of a spreadsheet, sheet by sheet. */
function Sheets({ sheets, cut }: { sheets: NonNullable<Preview["sheets"]>; cut: boolean }) {
  return (
    <Scrolled tabIndex={0} role="region" aria-label="Cells">
      {sheets.map((sheet, n) => (
        <SheetTable key={n}>
          {sheet.name && <caption>{sheet.name}</caption>}
          <tbody>
            {sheet.rows.map((row, y) => (
              <tr key={y}>
                {row.map((cell, x) => (
                  <td key={x} data-number={isNumber(cell)} title={cell.length > 36 ? cell : undefined}>
                    {cell}
                  </td>
                ))}
              </tr>
            ))}
          </tbody>
        </SheetTable>
      ))}
      {cut && <Quiet>There is more than is shown.</Quiet>}
    </Scrolled>
  );
}

/** A first look at a copy. What is shown is text or pixels that the service has made harmless. */
export function Peek({ id }: { id: string }) {
  const { data, error, isPending, refetch } = useQuery(preview(id));
  if (isPending) return <Quiet>Reading …</Quiet>;
  if (error) return <Failure problem={error} retry={() => void refetch()} />;
  return (
    <div>
      <Quiet>
        {data.media_type.startsWith("inode/") ? "" : data.media_type}
        {data.width && data.height ? `, ${data.width} × ${data.height} pixels` : ""}
        {data.encoding ? `, ${data.encoding}` : ""}
      </Quiet>
      {data.note && <Notice title={data.note} />}
      <Content id={id} look={data} />
    </div>
  );
}

function Content({ id, look }: { id: string; look: Preview }) {
  switch (look.shows) {
    case "picture":
      return <Picture src={withKey(`/api/v1/copies/${id}/picture`)} alt="The picture as it is in this copy" />;
    case "link":
      return (
        <p>
          A link to <Mono>{look.target}</Mono>
        </p>
      );
    case "folder":
      return <FolderListing look={look} />;
    case "nothing":
      return null;
    default:
      if (look.sheets) return <Sheets sheets={look.sheets} cut={look.cut === true} />;
      return (
        <Text tabIndex={0} aria-label="First lines">
          {(look.lines ?? []).join("\n")}
          {look.cut ? "\n…" : ""}
        </Text>
      );
  }
}

function FolderListing({ look }: { look: Preview }) {
  if (!look.entries?.length) return <Notice title="The folder is empty." />;
  return (
    <Listing aria-label="What lies in the folder">
      <tbody>
        {look.entries.map((e) => (
          <tr key={e.name}>
            <td>
              {e.name}
              {e.type === "folder" ? "/" : ""}
            </td>
            <td>{bytes(e.size)}</td>
          </tr>
        ))}
      </tbody>
    </Listing>
  );
}
