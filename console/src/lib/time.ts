/** `3 h`, as people say it. */
export function span(milliseconds: number): string {
  const seconds = Math.max(0, Math.round(milliseconds / 1000));
  if (seconds < 90) return `${seconds} s`;
  if (seconds < 5400) return `${Math.round(seconds / 60)} min`;
  if (seconds < 172800) return `${Math.round(seconds / 3600)} h`;
  return `${Math.floor(seconds / 86400)} days`;
}

/** `for 3 h`. */
export const since = (instant: string, now: number) => `for ${span(now - Date.parse(instant))}`;

/** `in 12 s`, or `now`. */
export function until(instant: string, now: number): string {
  const left = Date.parse(instant) - now;
  return left < 1500 ? "now" : `in ${span(left)}`;
}

export const clock = (instant: string) => new Date(instant).toLocaleTimeString("en-GB");
export const exact = (instant: string) => new Date(instant).toISOString();
