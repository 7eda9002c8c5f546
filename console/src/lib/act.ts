import type { Act, JobState } from "@/api/client";

/** What can be done to many domains, and what that means. */
export const ACTS: Record<Act["do"], { words: string; means: string }> = {
  look: {
    words: "Look again",
    means: "Each is looked at again, behind new domains and what people ask for.",
  },
  pause: {
    words: "Pause",
    means: "Nothing is looked at or ordered. What is served stays, and no certificate is renewed.",
  },
  resume: { words: "Resume", means: "Those that are paused are gone on with." },
  move: {
    words: "Move to another site",
    means: "Each shows another site of its account. Those of other accounts cannot.",
  },
  rotate: {
    words: "Replace tokens",
    means:
      "Each gets a new token, which its customer has to publish where ownership is not proved.",
  },
  release: {
    words: "Release",
    means: "Each leaves the platform: no route, and its certificate is revoked.",
  },
};

/** In words, as what a job does. */
export const words = (act: Act) => (act.do === "move" ? `Move to ${act.site}` : ACTS[act.do].words);

/** How far a job has come, in words. */
export const STATES: Record<JobState, string> = {
  gathering: "its domains are gathered",
  running: "under way",
  stopped: "stopped",
  done: "done",
};
