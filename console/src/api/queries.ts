// One query for each thing the console reads.
import { infiniteQueryOptions, queryOptions } from "@tanstack/react-query";
import type { operations } from "./schema";
import { placeQuery } from "../places";
import { zone } from "../when";
import { ask, client, type Place } from "./client";

export type FindQuery = NonNullable<operations["findCopies"]["parameters"]["query"]>;

export const session = queryOptions({
  queryKey: ["session"],
  queryFn: () => ask(client.GET("/session")),
  retry: false,
  staleTime: Infinity,
});

export const machines = queryOptions({ queryKey: ["machines"], queryFn: () => ask(client.GET("/machines")) });

export const persons = queryOptions({ queryKey: ["machines", "persons"], queryFn: () => ask(client.GET("/persons")) });

export const kinds = queryOptions({ queryKey: ["kinds"], queryFn: () => ask(client.GET("/kinds")), staleTime: Infinity });

export const catalogueHealth = queryOptions({ queryKey: ["catalogue"], queryFn: () => ask(client.GET("/catalogue")), staleTime: 60_000 });

export const jobs = queryOptions({
  queryKey: ["jobs"],
  queryFn: () => ask(client.GET("/jobs", { params: { query: { limit: 6, kind: "survey" } } })),
});

export const receipts = infiniteQueryOptions({
  queryKey: ["receipts"],
  queryFn: ({ pageParam }) => ask(client.GET("/receipts", { params: { query: pageParam ? { cursor: pageParam } : {} } })),
  initialPageParam: "",
  getNextPageParam: (page) => page.next,
});

export const receipt = (id: string) =>
  infiniteQueryOptions({
    queryKey: ["receipts", id],
    queryFn: ({ pageParam }) =>
      ask(
        client.GET("/receipts/{id}", { params: { path: { id }, query: pageParam ? { limit: 300, cursor: pageParam } : { limit: 300 } } }),
      ),
    initialPageParam: "",
    getNextPageParam: (page) => page.next,
  });

export const copies = (query: FindQuery) =>
  infiniteQueryOptions({
    queryKey: ["copies", query],
    queryFn: ({ pageParam }) => ask(client.GET("/copies", { params: { query: pageParam ? { ...query, cursor: pageParam } : query } })),
    initialPageParam: "",
    getNextPageParam: (page) => page.next,
  });

export const firstCopies = (query: FindQuery) =>
  queryOptions({ queryKey: ["copies", "first", query], queryFn: () => ask(client.GET("/copies", { params: { query } })) });

export const copy = (id: string | undefined) =>
  queryOptions({
    queryKey: ["copies", "one", id],
    queryFn: () => ask(client.GET("/copies/{id}", { params: { path: { id: id ?? "" } } })),
    enabled: id !== undefined,
  });

export const preview = (id: string) =>
  queryOptions({
    queryKey: ["preview", id],
    queryFn: () => ask(client.GET("/copies/{id}/preview", { params: { path: { id } } })),
    retry: false,
  });

/** A trail with marks of its copies alone; more is known of each by itself, see copy. */
export const trail = (place: Place) =>
  queryOptions({
    queryKey: ["trail", place],
    queryFn: () => ask(client.GET("/trail", { params: { query: { ...placeQuery(place), copies: "marks" } } })),
    retry: false,
  });

/** A folder in pages: there may be hundreds of thousands of entries, and nobody looks at more than some of them. */
export const folder = (place: Place, asOf: string | undefined) =>
  infiniteQueryOptions({
    queryKey: ["folder", place, asOf],
    queryFn: ({ pageParam }) =>
      ask(
        client.GET("/folder", {
          params: {
            query: { ...placeQuery(place), limit: 1000, ...(asOf ? { as_of: asOf } : {}), ...(pageParam ? { cursor: pageParam } : {}) },
          },
        }),
      ),
    initialPageParam: "",
    getNextPageParam: (page) => page.next,
    retry: false,
    placeholderData: (before) => {
      const of = before?.pages[0]?.place;
      return of?.path === place.path && of.machine === place.machine ? before : undefined;
    },
  });

export const comparison = (left: string, right: string, at?: Place) =>
  queryOptions({
    queryKey: ["comparison", left, right, at],
    queryFn: () => ask(client.GET("/comparison", { params: { query: { left, right, ...(at ? placeQuery(at) : {}) } } })),
    retry: false,
  });

export type CaseQuery = NonNullable<operations["listCases"]["parameters"]["query"]>;

export const cases = (query: CaseQuery) =>
  queryOptions({ queryKey: ["cases", "list", query], queryFn: () => ask(client.GET("/cases", { params: { query } })) });

export const caseOf = (id: string) =>
  queryOptions({ queryKey: ["cases", id], queryFn: () => ask(client.GET("/cases/{id}", { params: { path: { id } } })), retry: false });

export const caseAdvice = (id: string) =>
  queryOptions({
    queryKey: ["cases", id, "advice"],
    queryFn: () => ask(client.GET("/cases/{id}/advice", { params: { path: { id }, query: { zone } } })),
    retry: false,
    staleTime: 60_000,
  });

export const firstAid = (id: string) =>
  queryOptions({
    queryKey: ["cases", id, "first-aid"],
    queryFn: () => ask(client.GET("/cases/{id}/first-aid", { params: { path: { id }, query: { zone } } })),
  });

export const understood = (text: string) =>
  queryOptions({
    queryKey: ["understood", text],
    queryFn: () => ask(client.GET("/understood", { params: { query: { text, zone } } })),
    enabled: text.trim() !== "",
    retry: false,
    staleTime: 60_000,
  });

export const origins = (id: string) =>
  queryOptions({
    queryKey: ["origins", id],
    queryFn: () => ask(client.GET("/copies/{id}/origins", { params: { path: { id } } })),
    retry: false,
    staleTime: 60_000,
  });
