/** Copies a text; where the browser keeps the clipboard to secure pages, by a selection. */
export async function copyText(text: string): Promise<void> {
  if (navigator.clipboard) {
    await navigator.clipboard.writeText(text);
    return;
  }

  const box = document.createElement("textarea");
  box.value = text;
  box.style.position = "fixed";
  box.style.opacity = "0";
  document.body.append(box);
  const focused = document.activeElement as HTMLElement | null;
  box.select();
  document.execCommand("copy");
  box.remove();
  focused?.focus();
}
