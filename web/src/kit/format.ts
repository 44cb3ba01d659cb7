/** Numbers as a person reads them: tabular, with units. */

const whole = new Intl.NumberFormat("en-GB", { maximumFractionDigits: 0 });
const fine = new Intl.NumberFormat("en-GB", { maximumFractionDigits: 1 });

const TINY = 0.0001;

/** A value of a plan as it is written: nothing where there is none, text and numbers as they are, what is made up of parts as JSON. */
export function written(value: unknown): string {
  if (value === null || value === undefined) return "";
  return typeof value === "string" ? value : JSON.stringify(value);
}

/** A count or rate: whole from 10 up, one decimal below; what is more than nothing never reads as nothing. */
export function amount(value: number): string {
  if (value > 0 && value < TINY) return `<${TINY}`;
  if (value > 0 && value < 0.05) return String(Number(value.toPrecision(1)));
  return Math.abs(value) < 10 && !Number.isInteger(value) ? fine.format(value) : whole.format(value);
}

/** A count with its word: `1 drill`, `2 drills`. */
export function counted(value: number, word: string): string {
  return `${amount(value)} ${word}${value === 1 ? "" : "s"}`;
}

/** A rate in requests per second, short: `1,136/s`. */
export function perSecond(value: number): string {
  return `${amount(value)}/s`;
}

/** A share of 1 in per cent: whole, finer below 10 %; what is more than nothing never reads as nothing. */
export function percent(value: number): string {
  const hundred = value * 100;
  if (hundred > 0 && hundred < 0.05) return "<0.1 %";
  return `${hundred !== 0 && Math.abs(hundred) < 10 ? fine.format(hundred) : whole.format(hundred)} %`;
}

/** A number in a formula: at most three decimals, and no sign between thousands. */
export function decimals(value: number): string {
  return String(Math.round(value * 1000) / 1000);
}

/** Seconds with at most two decimals. */
export function seconds(value: number): string {
  return `${String(Math.round(value * 100) / 100)} s`;
}

/** A range of seconds: `25–35 s`. */
export function secondsRange(from: number, to: number): string {
  return `${String(Math.round(from * 100) / 100)}–${String(Math.round(to * 100) / 100)} s`;
}

/** A second of a drill on its clock: `1:29`, with a decimal when there is one. */
export function clock(second: number): string {
  const tenths = Math.round(second * 10) / 10;
  const minutes = Math.floor(tenths / 60);
  const rest = tenths - minutes * 60;
  const text = Number.isInteger(rest) ? String(rest) : rest.toFixed(1);
  return `${minutes}:${text.padStart(Number.isInteger(rest) ? 2 : 4, "0")}`;
}

/** A span of time in words: `1 min 29 s`. */
export function span(second: number): string {
  const rounded = second < 60 ? Math.round(second * 10) / 10 : Math.round(second);
  const minutes = Math.floor(rounded / 60);
  const rest = Math.round((rounded - minutes * 60) * 10) / 10;
  if (minutes === 0) return `${rest} s`;
  return rest === 0 ? `${minutes} min` : `${minutes} min ${rest} s`;
}

/** An amount of money, in the unit of the plan's prices. */
export function money(value: number | null): string {
  return value === null ? "unknown" : value.toLocaleString("en", { maximumFractionDigits: 2, minimumFractionDigits: 2 });
}

/** With a capital, but where it begins with a name, which is written as it is; and a full stop where it is a sentence. */
export function sentence(text: string, about = "", whole = true): string {
  const words = text.replaceAll("`", "");
  const [first = ""] = words.split(/[\s,:]/, 1);
  const begins = first === about || /[-.\d]/.test(first) ? words : words.slice(0, 1).toUpperCase() + words.slice(1);
  return begins + (whole && !/[.?!]$/.test(words) ? "." : "");
}
