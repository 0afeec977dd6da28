import { isMap, isScalar, isSeq, parseDocument } from "yaml";

export type Section = "from" | "into";

/** A section of a job file; null while the file cannot be read, {} where it is not there. */
export function sectionOf<T extends object>(file: string, section: Section): Partial<T> | null {
  const document = parseDocument(file);
  if (document.errors.length || !isMap(document.contents)) return null;
  const found = document.get(section);
  return isMap(found) ? (found.toJSON() as T) : {};
}

/** The file with other values of keys of a section, or without those that are empty; comments stay. */
export function withKeys(file: string, section: Section, values: Record<string, unknown>): string {
  const document = parseDocument(file);
  if (!isMap(document.contents)) return file;
  for (const [key, value] of Object.entries(values)) {
    const old = document.getIn([section, key], true);
    if (value === undefined || value === "" || (Array.isArray(value) && !value.length)) document.deleteIn([section, key]);
    else if (isScalar(old) && !Array.isArray(value)) old.value = value;
    else if (Array.isArray(value)) {
      const list = document.createNode(value);
      if (isSeq(list)) list.flow = true;
      document.setIn([section, key], list);
    } else document.setIn([section, key], value);
  }
  return document.toString({ lineWidth: 0 });
}
