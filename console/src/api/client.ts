// The only place that fetches. Types come from the OpenAPI document.
import type { Page } from "@/lib/pages";

import type { components } from "./schema";

type Schemas = components["schemas"];
export type AccessKey = Schemas["AccessKey"];
export type Account = Schemas["Account"];
export type AccountChange = Schemas["AccountChange"];
export type Act = Schemas["Act"];
export type AuditEntry = Schemas["AuditEntry"];
export type BaselineView = Schemas["BaselineView"];
export type CertificateDay = Schemas["CertificateDay"];
export type CertificateView = Schemas["CertificateView"];
export type Check = Schemas["Check"];
export type Contest = Schemas["Contest"];
export type Delivery = Schemas["Delivery"];
export type DomainDetail = Schemas["DomainDetail"];
export type Edit = Schemas["Edit"];
export type Event = Schemas["Event"];
export type FleetCertificate = Schemas["FleetCertificate"];
export type IssuerAccount = Schemas["IssuerAccount"];
export type Gate = Schemas["Gate"];
export type GateStanding = Schemas["GateStanding"];
export type Counts = Schemas["Counts"];
export type Handoff = Schemas["Handoff"];
export type Intake = Schemas["Intake"];
export type IntakeProgress = Schemas["IntakeProgress"];
export type IntakeRow = Schemas["IntakeRow"];
export type Job = Schemas["Job"];
export type JobItem = Schemas["JobItem"];
export type JobState = Schemas["JobState"];
export type JobPreview = Schemas["JobPreview"];
export type JudgedLine = Schemas["JudgedLine"];
export type MoveDomain = Schemas["MoveDomain"];
export type MadeHandoff = Schemas["MadeHandoff"];
export type MadeHook = Schemas["MadeHook"];
export type MadeKey = Schemas["MadeKey"];
export type NewHandoff = Schemas["NewHandoff"];
export type NewJob = Schemas["NewJob"];
export type NoticeKind = Schemas["NoticeKind"];
export type NewKey = Schemas["NewKey"];
export type OpenFinding = Schemas["OpenFinding"];
export type Held = Schemas["Held"];
export type Ingress = Schemas["Ingress"];
export type Language = Schemas["Language"];
export type Line = Schemas["Line"];
export type Order = Schemas["OrderView"];
export type Operator = Schemas["OperatorView"];
export type Party = Schemas["Party"];
export type Publication = Schemas["Publication"];
export type PublicationPlan = Schemas["PublicationPlan"];
export type Probe = Schemas["Probe"];
export type Receiver = Schemas["Receiver"];
export type Rehearsal = Schemas["Rehearsal"];
export type RosterLine = Schemas["RosterLine"];
export type Session = Schemas["Session"];
export type Sheet = Schemas["Sheet"];
export type SheetView = Schemas["SheetView"];
export type Site = Schemas["Site"];
export type StageCount = Schemas["StageCount"];
export type SpreadPoint = Schemas["SpreadPoint"];
export type Times = Schemas["Times"];
export type Verdict = Schemas["Verdict"];
export type Wait = Schemas["Wait"];
export type WrittenMail = Schemas["WrittenMail"];
export type WriteLine = Schemas["WriteLine"];
export type ZoneKey = Schemas["ZoneKey"];
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

  /** Whether the same may be granted in a moment. */
  get passing(): boolean {
    return this.status === 0 || this.status === 429 || this.status >= 500;
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

/** How long an answer may take, in milliseconds; what changes something may ask others. */
const READ_WITHIN = 30_000;
const CHANGED_WITHIN = 120_000;

/** The answer, and where the next page is (RFC 8288). */
async function answer(
  method: string,
  path: string,
  headers: Record<string, string> = {},
  body?: string | File,
  calledOff?: AbortSignal,
): Promise<{ text: string; next?: string }> {
  const late = AbortSignal.timeout(method === "GET" ? READ_WITHIN : CHANGED_WITHIN);
  const signal = calledOff ? AbortSignal.any([calledOff, late]) : late;
  let response: Response;
  let text: string;
  try {
    response = await fetch(`/api/v1/${path}`, { method, headers, body, signal });
    text = await response.text();
  } catch {
    calledOff?.throwIfAborted();
    const why = late.aborted ? "does not answer" : "cannot be reached";
    throw new Problem(0, `The service ${why}. Your entries are kept; try again.`, {});
  }
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

/** What a listing is asked for; what is empty is left out. */
export type Asked = Record<string, string | undefined>;

/** The path of a listing. */
export function listing(path: string, asked: Asked): string {
  const given = Object.entries(asked).filter((entry): entry is [string, string] =>
    Boolean(entry[1]),
  );
  return given.length ? `${path}?${new URLSearchParams(given)}` : path;
}

/** A host, and whose claim of it is meant where several accounts claim it. */
export interface Claim {
  host: string;
  account?: string;
}

/** The path of something about a claim. */
function at(claim: Claim, rest = "", query: Record<string, string> = {}): string {
  const whose: Record<string, string> = claim.account ? { account: claim.account } : {};
  const asked = new URLSearchParams({ ...query, ...whose }).toString();
  return `domains/${encodeURIComponent(claim.host)}${rest}${asked ? `?${asked}` : ""}`;
}

async function page<T>(path: string, signal?: AbortSignal): Promise<Page<T>> {
  const { text, next } = await answer("GET", path, {}, undefined, signal);
  return { rows: JSON.parse(text) as T[], next };
}

export const api = {
  who: () => call<Who>("GET", "session"),
  signIn: (key: string) => call<Who>("POST", "session", { key }),
  signOut: () => call<void>("DELETE", "session"),
  sites: page<Site>,
  operators: page<Operator>,
  counts: (asked: Asked) => call<Counts>("GET", listing("counts", asked)),
  roster: page<RosterLine>,
  enrol: (wanted: Schemas["NewDomain"]) => call<SheetView>("POST", "domains", wanted),
  domain: (claim: Claim) => call<DomainDetail>("GET", at(claim)),
  sheet: (claim: Claim, reveal: boolean) =>
    call<SheetView>("GET", at(claim, "/sheet", { reveal: String(reveal) })),
  /** The sheet as plain text, Markdown, CSV or lines of a master file. */
  sheetAs: (claim: Claim, kind: string) => send("GET", at(claim, "/sheet"), { Accept: kind }),
  rotate: (claim: Claim) => call<SheetView>("POST", at(claim, "/token")),
  baseline: (claim: Claim) => call<BaselineView>("GET", at(claim, "/baseline")),
  rehearse: async (claim: Claim, zone: string | File, reveal: boolean) => {
    const headers = { "Content-Type": "text/dns; charset=utf-8" };
    const path = at(claim, "/rehearsal", { reveal: String(reveal) });
    return JSON.parse(await send("POST", path, headers, zone)) as Rehearsal;
  },
  move: (claim: Claim, change: MoveDomain) => call<Schemas["Moved"]>("PATCH", at(claim), change),
  pause: (claim: Claim) => call<void>("POST", at(claim, "/pause")),
  resume: (claim: Claim) => call<void>("DELETE", at(claim, "/pause")),
  release: (claim: Claim) => call<void>("DELETE", at(claim)),
  certificate: (claim: Claim) => call<CertificateView>("GET", at(claim, "/certificate")),
  preflight: (claim: Claim) => call<Check[]>("POST", at(claim, "/certificate/preflight")),
  renew: (claim: Claim) => call<void>("POST", at(claim, "/certificate/renewal")),
  revoke: (claim: Claim, reason: string) =>
    call<Schemas["Revoked"]>("POST", at(claim, "/certificate/revocation"), { reason }),
  bring: (claim: Claim, chain_pem: string, key_pem: string) =>
    call<CertificateView>("PUT", at(claim, "/certificate"), { chain_pem, key_pem }),
  issuerAccount: () => call<IssuerAccount>("GET", "certificates/account"),
  changeIssuerKey: () => call<IssuerAccount>("POST", "certificates/account/key"),
  certificateDays: () => call<CertificateDay[]>("GET", "certificates/days"),
  certificates: page<FleetCertificate>,
  wait: (claim: Claim) => call<void>("POST", at(claim, "/waiting")),
  look: (claim: Claim) => call<void>("POST", at(claim, "/survey")),
  history: (claim: Claim, after: number) =>
    call<Event[]>("GET", at(claim, "/events", { after: String(after) })),
  accounts: page<Account>,
  account: (name: string) => call<Account>("GET", `accounts/${name}`),
  addAccount: (name: string, title: string) =>
    call<Account>("POST", "accounts", { name, title: title || undefined }),
  addSite: (name: string, account: string, ingress: string) =>
    call<Schemas["NewSite"]>("POST", "sites", { name, account, ingress }),
  ingresses: () => call<Ingress[]>("GET", "ingresses"),
  changeAccount: (name: string, change: AccountChange) =>
    call<Account>("PATCH", `accounts/${name}`, change),
  suspend: (name: string) => call<void>("POST", `accounts/${name}/suspension`),
  unsuspend: (name: string) => call<void>("DELETE", `accounts/${name}/suspension`),
  changeSite: (name: string, change: Schemas["SiteChange"]) =>
    call<void>("PATCH", `sites/${name}`, change),
  contests: page<Contest>,
  rule: (id: string, side: string, because: string) =>
    call<Contest>("POST", `contests/${id}/ruling`, { side, because }),
  findings: () => call<Schemas["CatalogueEntry"][]>("GET", "findings"),
  preview: (job: NewJob) => call<JobPreview>("POST", "jobs/preview", job),
  beginJob: (job: NewJob) => call<Job>("POST", "jobs", job),
  jobs: page<Job>,
  job: (id: string) => call<Job>("GET", `jobs/${id}`),
  jobItems: page<JobItem>,
  stopJob: (id: string) => call<Job>("DELETE", `jobs/${id}`),
  keys: page<AccessKey>,
  addKey: (key: NewKey) => call<MadeKey>("POST", "keys", key),
  revokeKey: (id: string) => call<void>("DELETE", `keys/${id}`),
  handoffs: page<Handoff>,
  makeLink: (claim: Claim, wanted: NewHandoff) =>
    call<MadeHandoff>("POST", at(claim, "/handoffs"), wanted),
  takeBackLink: (id: string) => call<void>("DELETE", `handoffs/${id}`),
  zoneKey: (claim: Claim) => call<Schemas["KeptKey"]>("GET", at(claim, "/zone-key")),
  giveZoneKey: (claim: Claim, given: Schemas["GiveKey"]) =>
    call<ZoneKey>("PUT", at(claim, "/zone-key"), given),
  forgetZoneKey: (claim: Claim) => call<void>("DELETE", at(claim, "/zone-key")),
  publicationPlan: (claim: Claim) => call<PublicationPlan>("GET", at(claim, "/publication-plan")),
  publications: (claim: Claim) => page<Publication>(at(claim, "/publications")),
  publish: (claim: Claim, plan?: string) =>
    call<Publication>("POST", at(claim, "/publications"), { plan }),
  undoPublication: (id: string) => call<void>("POST", `publications/${id}/undo`),
  notices: page<Delivery>,
  redeliver: (id: string) => call<void>("POST", `notices/${id}/redelivery`),
  previewMail: (kind: NoticeKind, language: Language) =>
    call<WrittenMail>("GET", listing("notices/preview", { kind, language })),
  receivers: page<Receiver>,
  addHook: (hook: Schemas["NewHook"]) => call<MadeHook>("POST", "hooks", hook),
  rotateHook: (id: string) => call<MadeHook>("POST", `hooks/${id}/rotation`),
  addRecipient: (one: Schemas["NewRecipient"]) => call<Receiver>("POST", "recipients", one),
  removeReceiver: (way: "hooks" | "recipients", id: string) => call<void>("DELETE", `${way}/${id}`),
  sessions: page<Session>,
  endSession: (id: string) => call<void>("DELETE", `sessions/${id}`),
  audit: page<AuditEntry>,
  /** Judges a table, and takes in what is accepted unless it is a dry run. */
  intake,
};

/** Sends a table, and tells how far it has come until its rows are answered. */
async function intake(
  table: string,
  dry: boolean,
  told: (progress: IntakeProgress) => void,
): Promise<Intake> {
  const headers = { "Content-Type": "text/csv; charset=utf-8", Accept: "text/event-stream" };
  const path = `/api/v1/intake${dry ? "?dry_run=true" : ""}`;
  const lost = () =>
    new Problem(0, "The service cannot be reached. Your table is kept; try again.", {});

  let response: Response;
  try {
    response = await fetch(path, { method: "POST", headers, body: table });
  } catch {
    throw lost();
  }
  if (!response.ok || !response.body) throw problem(response.status, await response.text());

  for await (const { event, data } of events(response.body)) {
    if (event === "progress") told(JSON.parse(data) as IntakeProgress);
    if (event === "done") return JSON.parse(data) as Intake;
    if (event === "failed") throw problem((JSON.parse(data) as Schemas["Problem"]).status, data);
  }
  throw lost();
}

/** The server-sent events of an answer (WHATWG HTML, section 9.2). */
async function* events(body: ReadableStream<Uint8Array>) {
  const reader = body.getReader();
  const decoder = new TextDecoder();
  let text = "";
  for (;;) {
    const { done, value } = await reader.read();
    if (done) return;
    const parts = (text + decoder.decode(value, { stream: true })).split("\n\n");
    text = parts.pop() ?? "";
    for (const part of parts) {
      const field = (name: string) =>
        part
          .split("\n")
          .filter((line) => line.startsWith(`${name}: `))
          .map((line) => line.slice(name.length + 2))
          .join("\n");
      yield { event: field("event"), data: field("data") };
    }
  }
}

/** Calls `heard` for each event from now on; returns how to stop. */
export function listen(heard: (event: Event) => void, missed: () => void): () => void {
  const source = new EventSource("/api/v1/events");
  source.onmessage = (message) => heard(JSON.parse(message.data) as Event);
  // After a broken connection the browser comes back by itself; what happened
  // before the first event of a session has no number to resume from.
  source.onopen = missed;
  return () => source.close();
}
