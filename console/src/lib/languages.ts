import type { Language } from "@/api/client";

/** Languages that customers are spoken to in, each by its own name. */
export const LANGUAGES: Record<Language, string> = {
  en: "English",
  de: "Deutsch",
  ar: "العربية",
};
