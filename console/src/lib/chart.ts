/** Which picture an answer can be drawn as, by the types of its columns. */

export type Shape = "line" | "bar" | "points";
export type Value = string | number | boolean | null;

export interface Choice {
  shape: Shape;
  /** The column of the horizontal axis. */
  x: number;
  /** Columns of numbers. */
  y: number[];
}

const NUMBERS = ["smallint", "integer", "bigint", "decimal", "real", "double"];
const MOMENTS = ["date", "timestamp", "timestamptz"];
const nameOf = (type: string) => type.split("(")[0] ?? "";
/** So many bars can be seen as single ones. */
export const MOST_BARS = 60;

export const isNumber = (type: string) => NUMBERS.includes(nameOf(type));
export const isMoment = (type: string) => MOMENTS.includes(nameOf(type));

/** Moments and numbers as numbers: moments as seconds since 1970. */
export function numeric(value: Value, type: string): number | null {
  if (value === null || value === "") return null;
  const found = isMoment(type) ? Date.parse(String(value)) / 1000 : Number(value);
  return Number.isFinite(found) ? found : null;
}

/** What can be drawn of an answer, the best first; none where no column is a number. */
export function choices(types: string[]): Choice[] {
  const numbers = types.flatMap((type, at) => (isNumber(type) ? [at] : []));
  const moments = types.flatMap((type, at) => (isMoment(type) ? [at] : []));
  const texts = types.flatMap((type, at) => (!isNumber(type) && !isMoment(type) ? [at] : []));
  if (!numbers.length) return [];
  const found: Choice[] = [];
  if (moments.length) found.push({ shape: "line", x: moments[0]!, y: numbers });
  if (texts.length) found.push({ shape: "bar", x: texts[0]!, y: [numbers[0]!] });
  if (numbers.length > 1) found.push({ shape: "points", x: numbers[0]!, y: numbers.slice(1, 2) });
  if (numbers.length > 1 && !texts.length) found.push({ shape: "bar", x: numbers[0]!, y: numbers.slice(1, 2) });
  if (!moments.length && numbers.length > 1) found.push({ shape: "line", x: numbers[0]!, y: numbers.slice(1) });
  return found;
}
