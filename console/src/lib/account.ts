import type { Account } from "@/api/client";

/** Domains of an account, of those that its plan grants. */
export const used = ({ allowance: { granted, used } }: Account) =>
  granted == null ? String(used) : `${used} of ${granted}`;
