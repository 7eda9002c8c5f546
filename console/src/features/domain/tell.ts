import type { Event } from "@/api/client";

type Data = Record<string, string> & { problem?: { detail: string } };

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
      return "Certificate ordered.";
    case "nomenta.order.refused":
      return `Certificate refused: ${data.problem?.detail ?? ""}`;
    case "nomenta.certificate.issued":
      return `Certificate ${data.serial} issued by ${data.issuer}.`;
    default:
      return event.type;
  }
}
