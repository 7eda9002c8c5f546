import { onMounted, onUnmounted } from "vue";

/** Whether somebody is typing into something. */
const isTyping = (target: EventTarget | null) =>
  target instanceof HTMLElement &&
  (target.isContentEditable || /^(INPUT|TEXTAREA|SELECT)$/.test(target.tagName));

/**
 * Keys of a listing: `j` and `k` go down and up its rows, Enter opens one as any link,
 * and `/` leads to the search.
 */
export function useRowKeys(search: () => HTMLElement | null | undefined) {
  function pressed(event: KeyboardEvent) {
    if (event.ctrlKey || event.metaKey || event.altKey || isTyping(event.target)) return;
    if (event.key === "/") {
      event.preventDefault();
      search()?.focus();
      return;
    }
    const step = { j: 1, k: -1 }[event.key];
    if (!step) return;

    const links = [...document.querySelectorAll<HTMLElement>("tbody [data-row]")];
    const at = links.indexOf(document.activeElement as HTMLElement);
    const next = at < 0 ? (step > 0 ? 0 : links.length - 1) : at + step;
    links[Math.min(Math.max(next, 0), links.length - 1)]?.focus();
  }

  onMounted(() => document.addEventListener("keydown", pressed));
  onUnmounted(() => document.removeEventListener("keydown", pressed));
}
