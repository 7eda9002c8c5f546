import { ref } from "vue";

import { Problem } from "@/api/client";

/** Why what a page shows may be old; nothing while it is not. */
const behind = ref("");

/** Reads what a page shows; `false` if it is to be read again, since it is not to be had now. */
export async function brought(read: () => Promise<void>): Promise<boolean> {
  try {
    await read();
    behind.value = "";
    return true;
  } catch (problem) {
    if (!(problem instanceof Problem && problem.passing)) throw problem;
    // What to do is not said: the page does it.
    behind.value = problem.message.split(/(?<=\.) /)[0] ?? "";
    return false;
  }
}

/** Why what is shown may be old, for whoever looks at it. */
export const useBehind = () => behind;
