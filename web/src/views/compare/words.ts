/** Readings and money as the views of comparing write them. Pure. */
import { amount, percent, seconds } from "../../kit/format";

/** Of these neither less nor more is better. */
export const NEITHER = new Set(["requests", "cross_zone_share", "peak_targets", "sessions_moved"]);

export function readingWords(name: string): string {
  return name.replaceAll("_", " ").replace(/ (s|ms)$/, "").replace(".", ": ");
}

export function shownReading(name: string, value: number | null): string {
  if (value === null) return "–";
  if (/_s$/.test(name)) return seconds(value);
  if (/share|utilisation/.test(name)) return percent(value);
  return /_ms$/.test(name) ? `${amount(value)} ms` : amount(value);
}

export function priceWords(price: string): string {
  return `the ${price.replaceAll("_", " ")}`;
}
