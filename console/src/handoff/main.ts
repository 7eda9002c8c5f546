/** The script of the handoff page: it copies, asks for a look, and keeps the page up to date. */
import { Idiomorph } from "idiomorph";

import { copyText } from "./copy";
import { localized } from "./moments";

/** Seconds to wait for a change at the service, and after a failure. */
const WAIT = 50;
const AGAIN = 5;

const language = document.documentElement.lang;
const secret = location.pathname.split("/").pop() ?? "";
const main = () => document.querySelector<HTMLElement>("#handoff")!;
const tell = (words: string) => (document.querySelector("#told")!.textContent = words);

const pause = (seconds: number) =>
  new Promise((resolve) => window.setTimeout(resolve, seconds * 1000));

/** The longest that a newer page waits for what is held down, in seconds. */
const HELD = 5;

/** Over when nothing is held down: what moves between press and release loses the click. */
let held: Promise<unknown> = Promise.resolve();
let release = () => {};
window.addEventListener("pointerdown", () => {
  const released = new Promise<void>((resolve) => (release = resolve));
  held = Promise.race([released, pause(HELD)]);
});
for (const end of ["pointerup", "pointercancel"])
  window.addEventListener(end, () => window.setTimeout(release));

/** What only works with a script is there only with one; times are told by the reader's clock. */
function dress(root: ParentNode) {
  for (const one of root.querySelectorAll<HTMLElement>(".copy, .tools")) one.hidden = false;
  for (const time of root.querySelectorAll("time"))
    time.textContent = localized(time.dateTime, language, new Date());
}

/** Puts a newer page in place of this one: what is open stays open, what has the focus keeps it. */
function replace(page: string) {
  const next = new DOMParser().parseFromString(page, "text/html").querySelector("#handoff");
  if (!next) return;
  dress(next);
  // For whoever has no script, which is nobody here.
  for (const one of next.querySelectorAll("noscript")) one.remove();

  Idiomorph.morph(main(), next, {
    ignoreActiveValue: true,
    callbacks: {
      // What was offered stays until there is nothing more to do.
      beforeNodeMorphed: (node: Node) =>
        !(node instanceof Element && node.matches(".one-click:not([hidden])")),
      // What was said to somebody who has come back is said until they leave.
      beforeNodeRemoved: (node: Node) => !(node instanceof Element && node.matches(".returned")),
      beforeAttributeUpdated: (name: string, node: Element) =>
        !(name === "open" && node instanceof HTMLDetailsElement),
    },
  });

  // The step that was open is done: on to the next.
  for (const steps of document.querySelectorAll(".steps"))
    if (!steps.querySelector("details[open]"))
      steps.querySelector("details")?.setAttribute("open", "");
}

async function follow() {
  let tag = "";
  while (main().dataset.ended === undefined) {
    try {
      const url = `${location.pathname}?language=${language}&wait=${tag ? WAIT : 0}`;
      const headers = tag ? { "if-none-match": tag } : undefined;
      const asked = Date.now();
      const answer = await fetch(url, { headers, cache: "no-store" });
      if (answer.status >= 500) throw new Error(answer.statusText);

      document.querySelector<HTMLElement>("#offline")!.hidden = true;
      tag = answer.headers.get("etag") ?? "";
      if (answer.status !== 304) {
        const page = await answer.text();
        await held;
        replace(page);
      }
      // Without a tag there is nothing to wait with; and where too many wait, nobody does.
      const isAtOnce = answer.status === 304 && Date.now() - asked < 1000;
      if (!tag || isAtOnce) await pause(AGAIN);
    } catch {
      document.querySelector<HTMLElement>("#offline")!.hidden = false;
      await pause(AGAIN);
    }
  }
}

/** What an operator offers for this domain, if anything. */
interface Offer {
  offered: boolean;
  said: Piece[][];
  link: { url: string; said: Piece[] } | null;
}
type Piece = Record<string, string>;

/** Offers one click where the operator of the zone has it; where not, the steps are there. */
async function offer(section: HTMLElement) {
  const headers = { authorization: `Bearer ${secret}` };
  const asked = new URLSearchParams({ language, host: section.dataset.host ?? "" });
  const answer = await fetch(`/api/v1/handoff/one-click?${asked}`, { headers });
  const { offered, said, link } = (answer.ok ? await answer.json() : {}) as Partial<Offer>;
  if (!offered || !said || !link) return;

  const [heading, what] = ["h3", "p"].map((tag, place) => sentence(tag, said[place]));
  const way = sentence("a", link.said) as HTMLAnchorElement;
  way.href = link.url;
  way.className = "open";
  const last = document.createElement("p");
  last.append(way);
  section.replaceChildren(heading, what, last);
  section.hidden = false;
}

/** A sentence in an element; names keep their own direction. */
function sentence(tag: string, said: Piece[]): HTMLElement {
  const element = document.createElement(tag);
  for (const [kind, text] of said.flatMap((piece) => Object.entries(piece))) {
    const part = document.createElement(kind === "text" ? "span" : "bdi");
    part.textContent = text;
    element.append(part);
  }
  return element;
}

async function look(button: HTMLElement) {
  if (button.getAttribute("aria-disabled") === "true") return;
  button.setAttribute("aria-disabled", "true");
  const { looking = "", soon = "" } = main().dataset;
  tell(looking);
  try {
    const headers = { authorization: `Bearer ${secret}` };
    const answer = await fetch("/api/v1/handoff/look", { method: "POST", headers });
    const seconds = Number(answer.headers.get("retry-after") ?? AGAIN);
    if (answer.status === 429) tell(soon.replace("%s", String(seconds)));
    await pause(answer.status === 429 ? seconds : AGAIN);
  } catch {
    document.querySelector<HTMLElement>("#offline")!.hidden = false;
  }
  tell("");
  button.setAttribute("aria-disabled", "false");
}

async function copy(button: HTMLElement) {
  await copyText(button.dataset.copy ?? "");
  const before = button.textContent;
  button.textContent = main().dataset.copied ?? before;
  await pause(2);
  button.textContent = before;
}

document.addEventListener("click", (event) => {
  const button = (event.target as Element).closest<HTMLElement>("button");
  if (!button) return;
  if (button.matches(".copy")) void copy(button);
  if (button.matches("#look")) void look(button);
  if (button.matches("#print")) window.print();
});

/** On paper every step is open. */
window.addEventListener("beforeprint", () => {
  for (const step of document.querySelectorAll(".steps details")) {
    step.removeAttribute("name");
    step.setAttribute("open", "");
  }
});

const dark = window.matchMedia("(prefers-color-scheme: dark)");
const paint = () => document.documentElement.classList.toggle("dark", dark.matches);
dark.addEventListener("change", paint);
paint();

dress(document);
void follow();
// Without an answer there is nothing to offer.
for (const section of document.querySelectorAll<HTMLElement>(".one-click"))
  offer(section).catch(() => undefined);
