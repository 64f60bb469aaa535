// The service as tests of pages see it: what it answers, what it was asked, and its events.
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { render } from "@testing-library/react";
import type { ReactNode } from "react";
import { MemoryRouter } from "react-router";
import { vi } from "vitest";
import { client, type Schemas } from "./api/client";
import { session } from "./api/queries";

/** One question: its method and path, what stands behind the question mark, and its body. */
export interface Question {
  call: string;
  query: URLSearchParams;
  body: unknown;
}

type Answer = unknown | ((q: Question) => unknown);

/** An answer that is a problem. */
export class Refusal {
  constructor(
    readonly status: number,
    readonly problem: object,
  ) {}
}

let answers: Record<string, Answer> = {};
let asked: Question[] = [];

client.use({
  onRequest: async ({ request }) => {
    const url = new URL(request.url);
    const text = await request.clone().text();
    const q = {
      call: `${request.method} ${url.pathname.replace("/api/v1", "")}`,
      query: url.searchParams,
      body: text === "" ? undefined : (JSON.parse(text) as unknown),
    };
    asked.push(q);
    const of = answers[q.call];
    if (of === undefined) throw new Error(`nobody answers ${q.call}`);
    const answer: unknown = typeof of === "function" ? (of as (q: Question) => unknown)(q) : of;
    return answer instanceof Refusal
      ? new Response(JSON.stringify({ status: answer.status, ...answer.problem }), { status: answer.status })
      : new Response(JSON.stringify(answer));
  },
});

/** Draws something of the console before a service that answers so, for who is signed in; asked are the questions to it, in their order. */
export function drawn(node: ReactNode, answering: Record<string, Answer>, signedIn?: Schemas["Session"]) {
  answers = answering;
  asked = [];
  const queries = new QueryClient({ defaultOptions: { queries: { retry: false } } });
  queries.setQueryData(session.queryKey, signedIn);
  const shown = render(
    <QueryClientProvider client={queries}>
      <MemoryRouter>{node}</MemoryRouter>
    </QueryClientProvider>,
  );
  return { ...shown, asked };
}

/** Streams of events in place of the browser's; tell sends one to whoever listens. */
export function events() {
  const open: { url: string; hear: (e: { data: string }) => void }[] = [];
  vi.stubGlobal(
    "EventSource",
    class {
      closed = false;
      constructor(readonly url: string) {}
      addEventListener(_kind: string, hear: (e: { data: string }) => void) {
        open.push({ url: this.url, hear: (e) => this.closed || hear(e) });
      }
      close() {
        this.closed = true;
      }
    },
  );
  return {
    listens: (path: string) => open.some((s) => s.url.includes(path)),
    tell: (path: string, data: object) => open.filter((s) => s.url.includes(path)).forEach((s) => s.hear({ data: JSON.stringify(data) })),
  };
}
