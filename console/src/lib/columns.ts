import { isMap, isScalar, isSeq, parseDocument, Scalar, YAMLSeq } from "yaml";

/** An item of a job's select list, taken apart: `expression as name type`. */
export interface Item {
  expression: string;
  name: string;
  type: string;
}

export const TYPES = [
  "boolean", "smallint", "integer", "bigint", "decimal", "real", "double", "text", "binary", "date", "time", "timestamp",
  "timestamptz", "uuid", "json",
]; // prettier-ignore
const TYPE = new RegExp(`\\s+((?:${TYPES.join("|")})\\b(?:\\s*\\(\\s*\\d+\\s*(?:,\\s*\\d+\\s*)?\\))?)\\s*$`, "i");
const NAME = /\s+as\s+("(?:[^"]|"")+"|[\p{L}_][\p{L}\p{N}_]*)\s*$/iu;

/** Takes an item apart; what it does not say is "". */
export function apart(text: string): Item {
  let rest = text.trim();
  const type = rest.match(TYPE)?.[1] ?? "";
  if (type) rest = rest.replace(TYPE, "");
  const name = rest.match(NAME)?.[1] ?? "";
  if (name) rest = rest.replace(NAME, "");
  return { expression: rest.trim(), name, type };
}

export function together(item: Item): string {
  const parts = [item.expression.trim()];
  if (item.name.trim() && item.name.trim() !== item.expression.trim()) parts.push(`as ${item.name.trim()}`);
  if (item.type.trim()) parts.push(item.type.trim());
  return parts.join(" ");
}

/** A name as expressions write it. */
export function quoted(name: string): string {
  const bare = /^[\p{L}_][\p{L}\p{N}_]*$/u.test(name) && !/^(as|except|not|case|when|null|true|false)$/i.test(name);
  return bare ? name : `"${name.replaceAll('"', '""')}"`;
}

export function plain(name: string): string {
  return name.startsWith('"') ? name.slice(1, -1).replaceAll('""', '"') : name;
}

/** The items of the job file's select list; null while the file cannot be read. */
export function itemsOf(file: string): string[] | null {
  const document = parseDocument(file);
  if (document.errors.length || !isMap(document.contents)) return null;
  const list = document.get("columns");
  if (list === undefined) return ["*"];
  return isSeq(list) ? list.items.map((one) => String(isScalar(one) ? one.value : "")) : null;
}

/** The file with another select list; comments stay, also those after items that stay as they are. */
export function withItems(file: string, items: string[]): string {
  const document = parseDocument(file);
  if (!isMap(document.contents)) return file;
  const old = document.get("columns");
  const known = new Map<string, Scalar[]>();
  if (isSeq(old)) {
    for (const one of old.items) {
      if (isScalar(one)) known.set(String(one.value), [...(known.get(String(one.value)) ?? []), one as Scalar]);
    }
  }
  const list = new YAMLSeq();
  if (isSeq(old)) {
    list.comment = old.comment;
    list.commentBefore = old.commentBefore;
  }
  // an item that was changed keeps the comment of its place
  list.items = items.map((text, index) => {
    const same = known.get(text)?.shift();
    if (same) return same;
    const made = new Scalar(text);
    const before = isSeq(old) && old.items.length === items.length ? old.items[index] : undefined;
    if (isScalar(before)) {
      made.comment = before.comment;
      made.commentBefore = before.commentBefore;
    }
    return made;
  });
  if (isSeq(old)) {
    document.set("columns", list);
  } else {
    const at = document.contents.items.findIndex((pair) => isScalar(pair.key) && pair.key.value === "into");
    const pairs = document.contents.items as unknown[];
    pairs.splice(at < 0 ? pairs.length : at, 0, document.createPair("columns", list));
  }
  return document.toString({ lineWidth: 0 });
}

export const RENAMINGS: Record<string, (name: string) => string> = {
  "snake_case": (name) =>
    name
      .replace(/([\p{Ll}\p{N}])(\p{Lu})/gu, "$1_$2")
      .replace(/[^\p{L}\p{N}]+/gu, "_")
      .replace(/^_+|_+$/g, "")
      .toLowerCase(),
  "lower case": (name) => name.toLowerCase(),
  "UPPER CASE": (name) => name.toUpperCase(),
};

/** What hides a value and keeps it comparable, or keeps its end. */
export const MASKS: Record<string, (expression: string) => string> = {
  "sha256": (expression) => `sha256(${expression})`,
  "keep the last 4": (expression) => `keep_last(${expression}, 4)`,
  "keyed, by a secret": (expression) => `hmac(${expression}, 'SECRET_NAME')`,
};
