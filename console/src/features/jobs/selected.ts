import type { Job } from "@/api/client";

/** Which domains a job is about, in words. */
export function selected(domains: Job["domains"]): string {
  const parts = Object.entries(domains).map(
    ([name, value]) => `${name.replaceAll("_", " ")} ${value}`,
  );
  return parts.join(", ") || "the whole roster";
}
