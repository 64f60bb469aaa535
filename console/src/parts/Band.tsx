import { useCallback, useRef } from "react";
import { Button, Input, SearchField } from "react-aria-components";
import { NavLink, useLocation, useNavigate, useSearchParams } from "react-router";
import styled from "styled-components";
import { ask, client } from "../api/client";
import { tokens } from "../theme";
import { useKey } from "../useKeys";
import { Key } from "./controls";

const Bar = styled.header`
  display: flex;
  flex-wrap: wrap;
  align-items: center;
  gap: 8px 24px;
  padding: 10px 20px;
  border-bottom: 1px solid ${tokens.rule};
  background: ${tokens.sheet};
  @media (max-width: 600px) { gap: 6px 14px; padding: 6px 12px; white-space: nowrap; }
`;

const Name = styled.span`
  font-weight: 650;
  letter-spacing: 0.01em;
  @media (max-width: 600px) { display: none; }
`;

const Search = styled(SearchField)`
  flex: 1 1 260px;
  max-width: 460px;
  display: flex;
  align-items: center;
  input {
    flex: 1;
    width: 0;
    min-width: 0;
    padding: 6px 10px;
    border: 1px solid ${tokens.rule};
    border-radius: ${tokens.corner};
    background: ${tokens.ground};
  }
  input::-webkit-search-cancel-button { display: none; }
  @media (max-width: 600px) { display: none; [data-finding] > & { display: flex; flex: 1 0 100%; max-width: none; order: 1; } }
`;

const Pages = styled.nav`
  display: flex;
  gap: 18px;
  @media (max-width: 600px) { gap: 12px; }
  a { color: ${tokens.ink}; text-decoration: none; padding: 2px 0; border-bottom: 2px solid transparent; }
  a:hover { border-bottom-color: ${tokens.rule}; }
  a[aria-current="page"] { border-bottom-color: ${tokens.ink}; font-weight: 650; }
`;

const Who = styled.span`
  margin-left: auto;
  color: ${tokens.quiet};
  @media (max-width: 600px) { > span { display: none; } button { margin-left: 0; } }
  button {
    border: 0;
    background: none;
    padding: 0;
    margin-left: 10px;
    text-decoration: underline;
    cursor: pointer;
    color: ${tokens.quiet};
  }
`;

export function Band({ technician }: { technician: string }) {
  const field = useRef<HTMLInputElement>(null);
  const { pathname } = useLocation();
  useKey(
    "/",
    useCallback(() => field.current?.select(), []),
  );
  const signOut = async () => {
    await ask(client.DELETE("/session"));
    location.assign("/"); // anew, so that nothing read while signed in stays in memory
  };
  return (
    <Bar data-finding={pathname === "/find" ? "" : undefined}>
      <Name>Humble Rewind</Name>
      <Words field={field} />
      <Pages aria-label="Pages">
        <NavLink to="/" end>
          Desk
        </NavLink>
        <NavLink to="/cases">Cases</NavLink>
        <NavLink to="/find">Find</NavLink>
        <NavLink to="/receipts">Receipts</NavLink>
        <NavLink to="/machines">Machines</NavLink>
      </Pages>
      <Who>
        <span>{technician}</span>
        <Button onPress={() => void signOut()}>Sign out</Button>
      </Who>
    </Bar>
  );
}

function Words({ field }: { field: React.RefObject<HTMLInputElement | null> }) {
  const [params] = useSearchParams();
  const { pathname } = useLocation();
  const navigate = useNavigate();
  const words = params.get("words") ?? "";
  const search = (text: string) => {
    const next = new URLSearchParams(pathname === "/find" ? params : undefined);
    next.delete("words");
    if (text.trim()) next.set("words", text.trim());
    void navigate(`/find?${next}`);
  };
  return (
    <Search key={words} aria-label="Find by words in the name" defaultValue={words} onSubmit={search} onClear={() => search("")}>
      <Input ref={field} placeholder="Words in the name" />
      <Key aria-hidden>/</Key>
    </Search>
  );
}
