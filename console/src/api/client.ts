// The API as the console uses it: typed by the contract, signed in by the session's cookie, failing with a Problem.
import createClient from "openapi-fetch";
import { sessionKey } from "./key";
import type { components, paths } from "./schema";

export type Schemas = components["schemas"];
export type Copy = Schemas["Copy"];
export type Job = Schemas["Job"];
export type Plan = Schemas["Plan"];
export type PlanItem = Schemas["PlanItem"];
export type Place = Schemas["Place"];
export type Preview = Schemas["Preview"];
export type Receipt = Schemas["Receipt"];
export type ReceiptItem = Schemas["ReceiptItem"];
export type Trail = Schemas["Trail"];
export type TrailVersion = Schemas["TrailVersion"];
export type TrailMark = Schemas["TrailMark"];
export type TrailLane = Schemas["TrailLane"];
export type Folder = Schemas["Folder"];
export type FolderEntry = Schemas["FolderEntry"];
export type FolderRow = Schemas["FolderRow"];
export type Comparison = Schemas["Comparison"];
export type Only = Schemas["Only"];
export type ClashRule = Schemas["ClashRule"];
export type Case = Schemas["Case"];
export type CaseEntry = Schemas["CaseEntry"];
export type CaseState = Schemas["CaseState"];
export type Advice = Schemas["Advice"];
export type FolderAdvice = Schemas["FolderAdvice"];
export type FirstAid = Schemas["FirstAid"];
export type Loss = Schemas["Loss"];
export type NewCase = Schemas["NewCase"];

export const client = createClient<paths>({ baseUrl: "/api/v1", credentials: "same-origin" });
client.use({
  onRequest: ({ request }) => {
    request.headers.set("X-Console-Key", sessionKey.get());
    return request;
  },
});

/** What the service answers when it cannot do something, worded for a technician. */
export class Problem extends Error {
  readonly status: number;
  readonly next: string;
  readonly reasons: string[];

  constructor(p: Schemas["Problem"]) {
    super(p.detail ? `${p.title}: ${p.detail}` : p.title);
    this.status = p.status;
    this.next = p.next ?? "";
    this.reasons = p.reasons ?? [];
  }
}

const unreachable = {
  title: "The service does not answer",
  status: 0,
  detail: "It may have been stopped.",
  next: "Check that it runs, then try again.",
};

/** Unwraps an answer: its data, or a Problem thrown. */
export async function ask<T>(call: Promise<{ data?: T; error?: Schemas["Problem"]; response: Response }>): Promise<T> {
  let answer;
  try {
    answer = await call;
  } catch {
    throw new Problem(unreachable);
  }
  if (answer.error !== undefined || !answer.response.ok) {
    throw new Problem(answer.error?.title ? answer.error : { ...unreachable, status: answer.response.status });
  }
  return answer.data as T;
}

declare module "@tanstack/react-query" {
  interface Register {
    defaultError: Problem;
  }
}
