/** What the API gives. */
export type StateName = "queued" | "running" | "succeeded" | "failed" | "stopped";

export interface Account extends User {
  active: boolean;
  last_login: string | null;
}

export interface KnownToken {
  id: number;
  label: string;
  owner: string;
  role: string;
  created_at: string;
  used_at: string | null;
  expires_at: string | null;
}

export interface AuditEntry {
  id: number;
  at: string;
  user: string;
  address: string;
  action: string;
  kind: string;
  name: string;
  detail: Record<string, unknown>;
}

export interface User {
  name: string;
  role: "viewer" | "operator" | "editor" | "admin";
}

export interface ProblemBody {
  status: number;
  code: string;
  detail: string;
  hint?: string;
  errors?: { pointer: string; message: string; hint?: string; line?: number; edit?: Edit }[];
}

export interface Page<T> {
  items: T[];
  total: number;
  page: number;
  pages: number;
}

export type Tally = Record<"read" | "filtered" | "rejected" | "repeated" | "inserted" | "updated" | "unchanged", number>;

export interface RunError {
  code: string;
  detail: string;
  hint: string;
}

export interface RunLine {
  id: number;
  job: string;
  revision: number;
  state: StateName;
  /** What is in the target, whatever the state: a run can fail after its rows are committed. */
  outcome: "nothing" | "committed" | "unknown";
  started_by: string | null;
  queued_at: string;
  started_at: string | null;
  first_row_at: string | null;
  ended_at: string | null;
  stop_requested: boolean;
  error: RunError | null;
  tally: Tally | null;
  kind: "load" | "rejects" | "undo";
  origin: number | null;
}

export interface Phase {
  name: string;
  state: "waiting" | "running" | "done" | "failed" | "stopped" | "cut off";
  started_at: string | null;
  ended_at: string | null;
}

export interface Progress {
  rows_read?: number;
  rows_staged?: number;
  rows_scanned?: number;
  bytes_read?: number;
  bytes_total?: number;
  bytes_scanned?: number;
  rows_per_second?: number;
}

export interface Leg {
  number: number;
  source: string;
  target: string;
  state: StateName;
  phases: Phase[];
  progress: Progress;
  tally: Tally | null;
  rows_before: number | null;
  rows_after: number | null;
  created_target: boolean;
  rejected: number;
  comparison: Record<string, number> | null;
  checksums: Record<string, string> | null;
  strategy: string;
  peak_memory: number | null;
}

export interface Run extends RunLine {
  legs: Leg[];
  file: string;
  attempts: number;
  followed_by: { id: number; kind: RunLine["kind"]; state: StateName }[];
}

export interface JobLine {
  name: string;
  about: string;
  labels: string[];
  source: string;
  target: string;
  revision: number;
  saved_at: string;
  last_run: RunLine | null;
}

export interface Job extends JobLine {
  file: string;
}

/** The lines `old` of a job file, from number `line` on, become `new`. */
export interface Edit {
  line: number;
  old: string[];
  new: string[];
}

export interface Finding {
  severity: "error" | "warning" | "note";
  code: string;
  message: string;
  place: string;
  fix: string;
  edit?: Edit;
}

export interface Check {
  passed: boolean;
  findings: Finding[];
  columns: { choices: { type: string; native: string; fit: string; change: string }[]; source: string; name: string; type: string; native: string; evidence: string }[];
  ddl: string | null;
  source_sql: string | null;
  effect: string;
  target_sql: string[];
  target: string;
  target_exists: boolean;
  rows_tried: number;
  strategy: { name: string; summary: string; why_not: Record<string, string> } | null;
}

export interface Rehearsal {
  passed: boolean;
  would_fail: string;
  complete: boolean;
  steps: { step: string; rows_in: number; rows_out: number; rejected: number }[];
  source_columns: string[];
  target_columns: { source: string; name: string; type: string; native: string }[];
  rows: { row: number; before: (string | null)[]; after: (string | null)[] }[];
  rejects: Reject[];
  findings: Finding[];
}

export interface Reject {
  row: number;
  line: number | null;
  column: string;
  value: string | null;
  reason: string;
  record: string;
  key: string;
}

/** A row before and after a load, its values as text. */
export interface Change {
  kind: string;
  columns: string[];
  before: (string | null)[] | null;
  after: (string | null)[] | null;
}

export interface RunEvent {
  id: number;
  kind: string;
  at: string;
  data: Record<string, unknown>;
}

export interface Connection {
  name: string;
  kind: string;
  settings: Record<string, unknown>;
  secrets_set: string[];
}

export interface Probe {
  passed: boolean;
  steps: { step: string; state: "passed" | "failed" | "not reached"; detail: string; seconds: number }[];
  error: RunError | null;
}

export interface StoredObject {
  name: string;
  kind: string;
  size?: number | null;
  modified?: string | null;
  rows?: number | null;
  comment?: string;
}

export interface ObjectPage {
  items: StoredObject[];
  more: boolean;
  next: string | null;
}

export interface ValueCounts {
  values: number;
  nulls: number;
  distinct: number | null;
  top: { value: string; count: number }[];
  low: string | null;
  high: string | null;
  shortest: number | null;
  longest: number | null;
}

export interface SeenColumn {
  name: string;
  type: string;
  evidence?: string;
  nulls?: number;
  native?: string;
  nullable?: boolean;
  key?: boolean;
  comment?: string;
  counts?: ValueCounts;
}

export interface FixedField {
  name: string;
  width: number;
  start?: number;
  trim?: string;
}

export type Layout = { format: string; fields?: FixedField[]; values?: Record<string, unknown> } & Record<string, unknown>;

export interface Preview {
  object: string;
  kind: string;
  size?: number;
  layout?: Layout;
  findings: Finding[];
  columns: SeenColumn[];
  rows: (string | number | boolean | null)[][];
  row_numbers?: number[];
  rows_scanned?: number;
  complete?: boolean;
  bad_rows?: { row: number; line: number | null; reason: string }[];
  bad_count?: number;
  row_estimate?: number | null;
  comment?: string;
}

export interface RawStart {
  object: string;
  size: number;
  read: number;
  complete: boolean;
  encoding: string;
  reason: string;
  text: string;
  base64: string;
}

export interface SavedLayout {
  name: string;
  about: string;
  format: string;
  version: number;
  saved_at: string;
  file: string;
  structure: { reads: Layout; expects?: { name: string; type: string }[] };
}
