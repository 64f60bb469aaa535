import { Checkbox, GridList, GridListItem, type Selection } from "react-aria-components";
import styled from "styled-components";
import type { Copy } from "../api/client";
import { Care, Quiet } from "../parts/controls";
import { PlaceText } from "../parts/PlaceText";
import { useSelection } from "../selection";
import { tokens } from "../theme";
import { absolute, bytes, expiry } from "../when";

const Frame = styled.div`
  flex: 1;
  min-height: 0;
`;

// The list itself scrolls: moving the focus scrolls the element that holds the rows, and no other.
const Rows = styled(GridList)`
  position: relative;
  height: 100%;
  overflow: auto;
  outline: none;
`;

const Row = styled(GridListItem)`
  position: relative; /* keeps the hidden checkbox inside the row, so that it cannot stretch the page */
  display: grid;
  grid-template-columns: 22px minmax(0, 1fr) auto;
  gap: 0 10px;
  padding: 7px 16px;
  border-bottom: 1px solid ${tokens.faint};
  cursor: default;
  &[data-focused] { background: ${tokens.ground}; box-shadow: inset 3px 0 0 ${tokens.ink}; }
  &[data-focus-visible] { outline-offset: -2px; }
  &[data-selected] { background: ${tokens.ground}; }
`;

const Tick = styled(Checkbox)`
  position: relative;
  width: 15px;
  height: 15px;
  margin-top: 3px;
  border: 1px solid ${tokens.rule};
  border-radius: 2px;
  &[data-selected] { background: ${tokens.ink}; border-color: ${tokens.ink}; }
  &[data-selected]::after {
    content: "";
    display: block;
    width: 8px;
    height: 4px;
    margin: 3px 0 0 2px;
    border: solid ${tokens.sheet};
    border-width: 0 0 2px 2px;
    transform: rotate(-45deg);
  }
`;

const Name = styled.div`
  overflow-wrap: anywhere;
`;

const Place = styled.div`
  font-size: 13px;
  line-height: 19px;
`;

const Facts = styled.div`
  text-align: right;
  font-size: 13px;
  line-height: 19px;
  white-space: nowrap;
  @media (max-width: 600px) { grid-column: 2; text-align: left; white-space: normal; }
`;

/** The copies found: arrows move, Space selects, and whatever has the focus is shown in the reading pane. */
export function CopyList({ copies, show }: { copies: Copy[]; show: (id: string) => void }) {
  const selection = useSelection();
  const selected = new Set(copies.filter((c) => selection.has(c.id)).map((c) => c.id));
  const select = (keys: Selection) => {
    const chosen = keys === "all" ? copies.map((c) => c.id) : [...keys].map(String);
    selection.setAmong(copies, new Set(chosen.filter((id) => copies.find((c) => c.id === id)?.readable)));
  };
  return (
    <Frame onFocus={(e) => showFocused(e.target, show)}>
      <Rows aria-label="Copies" selectionMode="multiple" selectedKeys={selected} onSelectionChange={select}>
        {copies.map((c) => (
          <CopyRow key={c.id} copy={c} />
        ))}
      </Rows>
    </Frame>
  );
}

function showFocused(target: EventTarget, show: (id: string) => void) {
  const id = target instanceof HTMLElement ? target.closest<HTMLElement>("[data-key]")?.dataset.key : undefined;
  if (id) show(id);
}

function when(c: Copy): string {
  if (c.gone_at) return `deleted ${absolute(c.gone_at)}`;
  return c.written_at ? `written ${absolute(c.written_at)}` : `seen ${absolute(c.last_seen_at)}`;
}

function CopyRow({ copy: c }: { copy: Copy }) {
  const end = expiry(c.expires_at);
  return (
    <Row id={c.id} textValue={c.name}>
      <Tick slot="selection" isDisabled={!c.readable} />
      <div>
        <Name>
          {c.name}
          {c.type === "folder" && "/"}
          {c.notes.length > 0 && <Care> (note)</Care>}
        </Name>
        <Place>
          {c.origin_known ? (
            <PlaceText place={c.place} name={false} />
          ) : (
            <Care>{c.claimed ? "Origin only claimed" : "Origin unknown"}</Care>
          )}
        </Place>
      </div>
      <Facts>
        <div>{when(c)}</div>
        <div>
          {c.readable ? (
            end.soon ? (
              <Care>{end.text}</Care>
            ) : (
              <Quiet>{c.expires_at ? end.text : c.source.kind}</Quiet>
            )
          ) : (
            <Care>only the record is left</Care>
          )}
          <Quiet>
            {" · "}
            {c.state === "gone" ? "" : `${c.state} · `}
            {c.person ?? "nobody known"} · {bytes(c.size)}
          </Quiet>
        </div>
      </Facts>
    </Row>
  );
}
