/** A moment as its reader's clock has it: the hour alone today, with the day else. */
export function localized(instant: string, language: string, now: Date): string {
  const at = new Date(instant);
  const isToday = at.toDateString() === now.toDateString();
  const day = isToday ? {} : ({ day: "numeric", month: "long" } as const);
  return new Intl.DateTimeFormat(language, { ...day, hour: "2-digit", minute: "2-digit" }).format(
    at,
  );
}
