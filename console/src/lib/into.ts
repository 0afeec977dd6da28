export const MODES: Record<string, string> = {
  append: "adds the rows to those that are there",
  overwrite: "replaces the rows that are there; readers meanwhile see the old ones",
  upsert: "matches rows by keys: new ones are inserted, changed ones updated, equal ones left alone",
};

/** What a job file says about its target; a key that is left out is not there. */
export interface Into {
  connection: string;
  table: string;
  files: string;
  folder: string;
  mode: string;
  keys: string[];
  repeats: string;
  if_missing: string;
  if_different: string;
  rejects: string | number;
  only_if_empty: boolean;
}
