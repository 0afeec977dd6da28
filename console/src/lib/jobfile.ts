/** Reads and changes the text of a job file by its keys; comments, and the form of what is not changed, stay. */
import { isMap, isScalar, isSeq, parse, parseDocument, stringify } from "yaml";

export type Path = (string | number)[];
export type Data = Record<string, unknown>;

/** The structure of a job file; null while the text cannot be read. */
export function readJob(file: string): Data | null {
  const document = parseDocument(file);
  if (document.errors.length || !isMap(document.contents)) return null;
  return document.toJS() as Data;
}

export function valueAt(data: unknown, path: Path): unknown {
  return path.reduce<unknown>((found, key) => (found && typeof found === "object" ? (found as Data)[key] : undefined), data);
}

const isEmpty = (value: unknown) =>
  value === undefined || value === "" || (Array.isArray(value) && !value.length) || (typeof value === "object" && value !== null && !Array.isArray(value) && !Object.keys(value).length);

/** The file with another value at a place, or without it where the value is empty; sections that become empty go too. */
export function withValue(file: string, path: Path, value: unknown): string {
  return withValues(file, [[path, value]]);
}

export function withValues(file: string, changes: [Path, unknown][]): string {
  const document = parseDocument(file);
  if (document.errors.length || !isMap(document.contents)) return file;
  for (const [path, value] of changes) {
    const old = document.getIn(path, true);
    if (isEmpty(value)) {
      document.deleteIn(path);
      for (let above = path.slice(0, -1); above.length; above = above.slice(0, -1)) {
        const left = document.getIn(above, true);
        if ((isMap(left) || isSeq(left)) && !left.items.length) document.deleteIn(above);
        else break;
      }
    } else if (isScalar(old) && (typeof value !== "object" || value === null)) {
      // what it is written as, such as quotes, may not fit another type
      if (typeof old.value !== typeof value) delete old.type;
      old.value = value;
    } else {
      // a section that is not there yet, or is written as one value, becomes a mapping
      for (let length = 1; length < path.length; length += 1) {
        const above = document.getIn(path.slice(0, length), true);
        if (above === undefined || isScalar(above)) document.setIn(path.slice(0, length), document.createNode(typeof path[length] === "number" ? [] : {}));
      }
      const node = document.createNode(value);
      if (isSeq(node) && node.items.every(isScalar)) node.flow = true;
      document.setIn(path, node);
    }
  }
  return document.toString({ lineWidth: 0 });
}

/** A value as it is written on one line of a job file. */
export function written(value: unknown): string {
  if (value === undefined || value === null) return "";
  if (typeof value === "string") {
    // a text that would be read as something else is quoted
    const again = read(value);
    return again.value === value ? value : stringify(value, { lineWidth: 0 }).trim();
  }
  return stringify(value, { collectionStyle: "flow", lineWidth: 0 }).trim();
}

/** What stands on such a line: undefined for nothing, `problem` where it cannot be read. */
export function read(text: string): { value?: unknown; problem?: string } {
  if (!text.trim()) return {};
  try {
    return { value: parse(text) as unknown };
  } catch (error) {
    return { problem: String((error as Error).message).split("\n")[0] };
  }
}
