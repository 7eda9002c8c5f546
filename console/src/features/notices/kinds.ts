import type { NoticeKind } from "@/api/client";

/** What people are told of, in words. */
export const KINDS: Record<NoticeKind, string> = {
  "token-issued": "there is a token to publish",
  blocked: "something is in the way",
  "waiting-long": "nothing has moved for long",
  "claimed-twice": "another claim is proved too",
  live: "it is live",
  lapsed: "something is gone",
  "certificate-expiring": "the certificate runs out soon",
  "left-behind": "records are left behind",
};
