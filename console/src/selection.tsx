// What is selected to be brought back: it follows from page to page in the tray.
import { createContext, use, useCallback, useMemo, useState, type ReactNode } from "react";
import type { Copy } from "./api/client";

interface Selection {
  copies: Copy[];
  has: (id: string) => boolean;
  /** Selects just these of the copies on a page and leaves those of other pages alone. */
  setAmong: (page: Copy[], chosen: Set<string>) => void;
  drop: (id: string) => void;
  clear: () => void;
}

const Context = createContext<Selection | null>(null);

export function SelectionProvider({ children }: { children: ReactNode }) {
  const [copies, setCopies] = useState<Copy[]>([]);
  const setAmong = useCallback((page: Copy[], chosen: Set<string>) => {
    const ids = new Set(page.map((c) => c.id));
    setCopies((before) => {
      const kept = before.filter((c) => !ids.has(c.id) || chosen.has(c.id));
      const have = new Set(kept.map((c) => c.id));
      return [...kept, ...page.filter((c) => chosen.has(c.id) && !have.has(c.id))];
    });
  }, []);
  const drop = useCallback((id: string) => setCopies((before) => before.filter((c) => c.id !== id)), []);
  const clear = useCallback(() => setCopies([]), []);
  const value = useMemo(
    () => ({ copies, has: (id: string) => copies.some((c) => c.id === id), setAmong, drop, clear }),
    [copies, setAmong, drop, clear],
  );
  return <Context value={value}>{children}</Context>;
}

export function useSelection(): Selection {
  const selection = use(Context);
  if (!selection) throw new Error("useSelection outside SelectionProvider");
  return selection;
}
