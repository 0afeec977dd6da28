import { isMap, isScalar, isSeq, parseDocument } from "yaml";

export const MODES: Record<string, string> = {
  append: "adds the rows to those that are there",
  overwrite: "replaces the rows that are there; whoever reads meanwhile sees the old ones",
  upsert: "matches rows by keys: new ones are inserted, changed ones updated, equal ones left alone",
};

/** What a job file says about its target; a key that is left out is not there. */
export interface Into {
  connection?: string;
  table?: string;
  files?: string;
  mode?: string;
  keys?: string[];
  repeats?: string;
  if_missing?: string;
  if_different?: string;
  rejects?: string | number;
  only_if_empty?: boolean;
}

/** The part `into` of a job file; null while the file cannot be read. */
export function intoOf(file: string): Into | null {
  const document = parseDocument(file);
  if (document.errors.length || !isMap(document.contents)) return null;
  const into = document.get("into");
  return isMap(into) ? (into.toJSON() as Into) : {};
}

/** The file with another value of a key of `into`, or without it; comments stay. */
export function withInto(file: string, key: string, value: unknown): string {
  const document = parseDocument(file);
  if (!isMap(document.contents)) return file;
  if (value === undefined || value === "" || (Array.isArray(value) && !value.length)) {
    document.deleteIn(["into", key]);
  } else {
    const old = document.getIn(["into", key], true);
    if (isScalar(old) && !Array.isArray(value)) old.value = value;
    else if (Array.isArray(value)) {
      const list = document.createNode(value);
      if (isSeq(list)) list.flow = true;
      document.setIn(["into", key], list);
    } else document.setIn(["into", key], value);
  }
  return document.toString({ lineWidth: 0 });
}
