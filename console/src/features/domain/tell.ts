import type { Event, Gate, OpenFinding } from "@/api/client";

type Data = Record<string, string> & {
  problem?: { detail: string };
  names?: string[];
  from?: string[] | string;
  to?: string[] | string;
};

const list = (values: string[] | string | undefined) =>
  Array.isArray(values) && values.length ? values.join(", ") : "nothing";

/** Why a gate stands as it does: the code of the finding that explains it, if one does. */
export function because(gate: Gate, findings: OpenFinding[]): string {
  const explains = ({ code }: OpenFinding) => gate.reason.startsWith(`${code}: `);
  return findings.find(explains)?.code ?? gate.reason;
}

/** What happened, in one sentence. */
export function tell(event: Event): string {
  const data = event.data as Data;
  switch (event.type) {
    case "nomenta.domain.enrolled":
      return `Enrolled for the site ${data.site} of ${data.account}.`;
    case "nomenta.token.rotated":
      return "Given a new token.";
    case "nomenta.gate.changed":
      return `${data.gate}: ${data.from} → ${data.to}. ${data.reason}`;
    case "nomenta.finding.opened":
      return `Found ${data.code}.`;
    case "nomenta.finding.cleared":
      return `${data.code} is gone.`;
    case "nomenta.order.placed":
      return (data.names?.length ?? 0) > 1
        ? "Certificate ordered, for both of the pair."
        : "Certificate ordered.";
    case "nomenta.order.refused":
      return `Certificate refused: ${data.problem?.detail ?? ""}`;
    case "nomenta.certificate.issued":
      return `Certificate ${data.serial} issued by ${data.issuer}.`;
    case "nomenta.certificate.brought":
      return `Certificate ${data.serial} of ${data.issuer} brought in.`;
    case "nomenta.certificate.revoked":
      return `Certificate ${data.serial} revoked (${data.reason}).`;
    case "nomenta.domain.drifted":
      return `${data.what} changed from ${list(data.from)} to ${list(data.to)}.`;
    case "nomenta.domain.released":
      return "Left the platform.";
    default:
      return event.type;
  }
}
