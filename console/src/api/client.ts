// The only place that fetches. Types come from the OpenAPI document.
import type { components } from "./schema";

type Schemas = components["schemas"];
export type BaselineView = Schemas["BaselineView"];
export type CertificateDay = Schemas["CertificateDay"];
export type CertificateView = Schemas["CertificateView"];
export type Check = Schemas["Check"];
export type DomainDetail = Schemas["DomainDetail"];
export type Edit = Schemas["Edit"];
export type Event = Schemas["Event"];
export type FleetCertificate = Schemas["FleetCertificate"];
export type Gate = Schemas["Gate"];
export type JudgedLine = Schemas["JudgedLine"];
export type OpenFinding = Schemas["OpenFinding"];
export type Held = Schemas["Held"];
export type Line = Schemas["Line"];
export type Order = Schemas["OrderView"];
export type Probe = Schemas["Probe"];
export type Rehearsal = Schemas["Rehearsal"];
export type RosterLine = Schemas["RosterLine"];
export type Sheet = Schemas["Sheet"];
export type SheetView = Schemas["SheetView"];
export type Site = Schemas["Site"];
export type StageCount = Schemas["StageCount"];
export type SpreadPoint = Schemas["SpreadPoint"];
export type Verdict = Schemas["Verdict"];
export type Wait = Schemas["Wait"];
export type Who = Schemas["Who"];

/** A problem document (RFC 9457) as an error. */
export class Problem extends Error {
  constructor(
    readonly status: number,
    detail: string,
    readonly fields: Record<string, string>,
    readonly line?: number,
  ) {
    super(detail);
  }
}

async function send(
  method: string,
  path: string,
  headers: Record<string, string> = {},
  body?: string | File,
): Promise<string> {
  return (await answer(method, path, headers, body)).text;
}

/** The answer, and where the next page is (RFC 8288). */
async function answer(
  method: string,
  path: string,
  headers: Record<string, string> = {},
  body?: string | File,
): Promise<{ text: string; next?: string }> {
  let response: Response;
  try {
    response = await fetch(`/api/v1/${path}`, { method, headers, body });
  } catch {
    throw new Problem(0, "The service cannot be reached. Your entries are kept; try again.", {});
  }
  const text = await response.text();
  const next = /^<\/api\/v1\/(.*)>; rel="next"$/.exec(response.headers.get("Link") ?? "")?.[1];
  if (response.ok) return { text, next };
  throw problem(response.status, text);
}

async function call<T>(method: string, path: string, body?: unknown): Promise<T> {
  const text =
    body === undefined
      ? await send(method, path)
      : await send(method, path, { "Content-Type": "application/json" }, JSON.stringify(body));
  return (text ? JSON.parse(text) : undefined) as T;
}

function problem(status: number, text: string): Problem {
  try {
    const document = JSON.parse(text) as Schemas["Problem"];
    const fields = (document.errors ?? []).map((e) => [e.field, e.message]);
    const line = document.errors?.[0]?.line ?? undefined;
    return new Problem(status, document.detail, Object.fromEntries(fields), line);
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
  enrol: (host: string, site: string, pair: boolean) =>
    call<SheetView>("POST", "domains", { host, site, pair }),
  domain: (host: string) => call<DomainDetail>("GET", at(host)),
  sheet: (host: string, reveal: boolean) =>
    call<SheetView>("GET", `${at(host)}/sheet?reveal=${reveal}`),
  /** The sheet as plain text, Markdown, CSV or lines of a master file. */
  sheetAs: (host: string, kind: string) => send("GET", `${at(host)}/sheet`, { Accept: kind }),
  rotate: (host: string) => call<SheetView>("POST", `${at(host)}/token`),
  baseline: (host: string) => call<BaselineView>("GET", `${at(host)}/baseline`),
  rehearse: async (host: string, zone: string | File, reveal: boolean) => {
    const headers = { "Content-Type": "text/dns; charset=utf-8" };
    const path = `${at(host)}/rehearsal?reveal=${reveal}`;
    return JSON.parse(await send("POST", path, headers, zone)) as Rehearsal;
  },
  release: (host: string) => call<void>("DELETE", at(host)),
  certificate: (host: string) => call<CertificateView>("GET", `${at(host)}/certificate`),
  preflight: (host: string) => call<Check[]>("POST", `${at(host)}/certificate/preflight`),
  renew: (host: string) => call<void>("POST", `${at(host)}/certificate/renewal`),
  revoke: (host: string, reason: string) =>
    call<Schemas["Revoked"]>("POST", `${at(host)}/certificate/revocation`, { reason }),
  bring: (host: string, chain_pem: string, key_pem: string) =>
    call<CertificateView>("PUT", `${at(host)}/certificate`, { chain_pem, key_pem }),
  certificateDays: () => call<CertificateDay[]>("GET", "certificates/days"),
  /** A page of the fleet's certificates; `next` leads to the one after. */
  certificates: async (path: string) => {
    const { text, next } = await answer("GET", path);
    return { rows: JSON.parse(text) as FleetCertificate[], next };
  },
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
