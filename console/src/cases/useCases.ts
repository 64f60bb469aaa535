import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useEffect } from "react";
import { ask, client, type Case, type Schemas } from "../api/client";
import { withKey } from "../api/key";

/** Follows what others do in cases, so that two technicians see each other's work at once. */
export function useCaseEvents() {
  const queries = useQueryClient();
  useEffect(() => {
    const events = new EventSource(withKey("/api/v1/cases/events"));
    const look = () => void queries.invalidateQueries({ queryKey: ["cases"] });
    events.addEventListener("cases", look);
    return () => events.close();
  }, [queries]);
}

/** Adds something to a case. */
export function useAdd(id: string) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (body: Schemas["NewCaseEntry"]) =>
      ask(client.POST("/cases/{id}/entries", { params: { path: { id } }, body })) as Promise<Case>,
    onSuccess: () => queries.invalidateQueries({ queryKey: ["cases"] }),
  });
}

/** Changes what a case says, as it was read. */
export function useChange(id: string) {
  const queries = useQueryClient();
  return useMutation({
    mutationFn: (body: Schemas["CaseChanges"]) => ask(client.PATCH("/cases/{id}", { params: { path: { id } }, body })) as Promise<Case>,
    onSettled: () => queries.invalidateQueries({ queryKey: ["cases"] }),
  });
}
