// The only place that fetches. Types come from the OpenAPI document.
import type { components } from "./schema";

type Schemas = components["schemas"];
export type DomainDetail = Schemas["DomainDetail"];
export type Edit = Schemas["Edit"];
export type Event = Schemas["Event"];
export type Gate = Schemas["Gate"];
export type JudgedLine = Schemas["JudgedLine"];
export type OpenFinding = Schemas["OpenFinding"];
export type RosterLine = Schemas["RosterLine"];
export type SheetView = Schemas["SheetView"];
export type Site = Schemas["Site"];
export type StageCount = Schemas["StageCount"];
export type Verdict = Schemas["Verdict"];
export type Who = Schemas["Who"];

/** A problem document (RFC 9457) as an error. */
export class Problem extends Error {
  constructor(
    readonly status: number,
    detail: string,
    readonly fields: Record<string, string>,
  ) {
    super(detail);
  }
}

async function call<T>(method: string, path: string, body?: unknown): Promise<T> {
  let response: Response;
  try {
    response = await fetch(`/api/v1/${path}`, {
      method,
      headers: body === undefined ? {} : { "Content-Type": "application/json" },
      body: body === undefined ? undefined : JSON.stringify(body),
    });
  } catch {
    throw new Problem(0, "The service cannot be reached. Your entries are kept; try again.", {});
  }
  const text = await response.text();
  if (response.ok) return (text ? JSON.parse(text) : undefined) as T;
  throw problem(response.status, text);
}

function problem(status: number, text: string): Problem {
  try {
    const document = JSON.parse(text) as Schemas["Problem"];
    const fields = (document.errors ?? []).map((e) => [e.field, e.message]);
    return new Problem(status, document.detail, Object.fromEntries(fields));
  } catch {
    return new Problem(status, `The service answered with status ${status}. Try again.`, {});
  }
}

export interface RosterQuery {
  stage?: string;
  text?: string;
  after?: string;
}

export const PAGE = 100;

const at = (host: string) => `domains/${encodeURIComponent(host)}`;

export const api = {
  who: () => call<Who>("GET", "session"),
  signIn: (key: string) => call<Who>("POST", "session", { key }),
  signOut: () => call<void>("DELETE", "session"),
  sites: () => call<Site[]>("GET", "sites"),
  stages: () => call<StageCount[]>("GET", "stages"),
  roster: (query: RosterQuery) => {
    const given = Object.entries({ ...query, limit: String(PAGE) }).filter(([, v]) => v);
    return call<RosterLine[]>("GET", `domains?${new URLSearchParams(given)}`);
  },
  enrol: (host: string, site: string) => call<SheetView>("POST", "domains", { host, site }),
  domain: (host: string) => call<DomainDetail>("GET", at(host)),
  look: (host: string) => call<void>("POST", `${at(host)}/survey`),
  history: (host: string, after: number) =>
    call<Event[]>("GET", `${at(host)}/events?after=${after}`),
};

/** Calls `heard` for each event from now on; returns how to stop. */
export function listen(heard: (event: Event) => void, missed: () => void): () => void {
  const source = new EventSource("/api/v1/events");
  source.onmessage = (message) => heard(JSON.parse(message.data) as Event);
  // After a broken connection the browser comes back by itself; what happened
  // before the first event of a session has no number to resume from.
  source.onopen = missed;
  return () => source.close();
}
