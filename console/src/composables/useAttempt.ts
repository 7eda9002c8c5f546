import { ref } from "vue";

import { Problem } from "@/api/client";

/**
 * The call behind a form: busy while it runs, and what is wrong at which field; what
 * belongs to no field is said at `fallback`.
 */
export function useAttempt(fallback: string) {
  const busy = ref(false);
  const errors = ref<Record<string, string>>({});

  async function attempt(call: () => Promise<void>) {
    busy.value = true;
    errors.value = {};
    try {
      await call();
    } catch (problem) {
      if (!(problem instanceof Problem)) throw problem;
      const { fields, message } = problem;
      errors.value = Object.keys(fields).length ? fields : { [fallback]: message };
    } finally {
      busy.value = false;
    }
  }

  return { busy, errors, attempt };
}
