/** The addresses of the views, and how what they say is written there. Pure. */
import { readCompareSearch, readFindingsSearch, readLossesSearch, readSearch, readSizingSearch, readTraceSearch, type SizingSearch } from "./searches";

type Said = Record<string, unknown>;
const nothing = (): Record<never, never> => ({});

/** Every view's path, and what is understood of what its address says. */
export const PLACES = {
  "/": nothing,
  "/plans": nothing,
  "/start": nothing,
  "/plans/:key/board": readSearch,
  "/plans/:key/drill": readSearch,
  "/plans/:key/trace": readTraceSearch,
  "/plans/:key/findings": readFindingsSearch,
  "/plans/:key/losses": readLossesSearch,
  "/plans/:key/sizing": (said: Said): Partial<SizingSearch> => readSizingSearch(said),
  "/plans/:key/compare": readCompareSearch,
  "/plans/:key/handover": nothing,
  "/plans/:key/sheets/:sheet": nothing,
  "/plans/:key/index": nothing,
};

export type Place = keyof typeof PLACES;
export type SearchOf<To extends Place> = ReturnType<(typeof PLACES)[To]>;
type NameIn<Path extends string> = Path extends `${string}:${infer Name}/${infer Rest}` ? Name | NameIn<Rest> : Path extends `${string}:${infer Name}` ? Name : never;
export type ParamsOf<To extends Place> = Record<NameIn<To>, string>;

/** Where somebody goes. What is not said of the search is as it is not written. */
export type Where<To extends Place> = { to: To; search?: SearchOf<To> | undefined } & ([NameIn<To>] extends [never] ? { params?: undefined } : { params: ParamsOf<To> });

/** What an address says, as it is written: numbers, lists and the like as JSON, texts as they are. */
export function readWritten(written: string): Said {
  const said: Said = {};
  for (const [name, value] of new URLSearchParams(written)) said[name] = readValue(value);
  return said;
}

export function writeSearch(search: object): string {
  const written = new URLSearchParams();
  for (const [name, value] of Object.entries(search)) if (value !== undefined) written.set(name, writeValue(value));
  const text = written.toString();
  return text && `?${text}`;
}

function readValue(text: string): unknown {
  try {
    return JSON.parse(text);
  } catch {
    return text;
  }
}

/** A text that would be read as something else is written as JSON, too. */
function writeValue(value: unknown): string {
  return typeof value === "string" && readValue(value) === value ? value : JSON.stringify(value);
}

const PATTERNS = (Object.keys(PLACES) as Place[]).map((to) => [to, new RegExp(`^${to.replace(/:\w+/g, "[^/]+")}/?$`)] as const);

/** The view at a path. */
export const placeAt = (path: string): Place | undefined => PATTERNS.find(([, pattern]) => pattern.test(path))?.[0];

/** A part of a path as it is meant; as it is written where it means nothing. */
export function readPart(text: string): string {
  try {
    return decodeURIComponent(text);
  } catch {
    return text;
  }
}

export function hrefOf(to: Place, params: Record<string, string> | undefined, search: object | undefined): string {
  const path = to.replace(/:(\w+)/g, (_, name: string) => encodeURIComponent(params?.[name] ?? ""));
  return path + writeSearch(search ?? {});
}
