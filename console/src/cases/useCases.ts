import { useMutation, useQueryClient } from "@tanstack/react-query";
import { ask, client, type Case, type Schemas } from "../api/client";

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
