/** What the API gives. */
export type StateName = "queued" | "running" | "succeeded" | "failed" | "stopped";

export interface User {
  name: string;
  role: "viewer" | "operator" | "editor" | "admin";
}

export interface ProblemBody {
  status: number;
  code: string;
  detail: string;
  hint?: string;
  errors?: { pointer: string; message: string; hint?: string; line?: number }[];
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
  started_by: string | null;
  queued_at: string;
  started_at: string | null;
  first_row_at: string | null;
  ended_at: string | null;
  stop_requested: boolean;
  error: RunError | null;
  tally: Tally | null;
}

export interface Phase {
  name: string;
  state: "waiting" | "running" | "done" | "failed" | "stopped";
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
  peak_memory: number | null;
}

export interface Run extends RunLine {
  legs: Leg[];
  file: string;
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

export interface Finding {
  severity: "error" | "warning" | "note";
  code: string;
  message: string;
  place: string;
  fix: string;
}

export interface Check {
  passed: boolean;
  findings: Finding[];
  columns: { source: string; name: string; type: string; native: string; evidence: string }[];
  ddl: string | null;
  target: string;
  target_exists: boolean;
  rows_tried: number;
}

export interface Reject {
  row: number;
  line: number | null;
  column: string;
  value: string | null;
  reason: string;
  record: string;
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
  settings: Record<string, string | number>;
  secrets_set: string[];
}

export interface Probe {
  passed: boolean;
  steps: { step: string; state: 'passed' | 'failed' | 'not reached'; detail: string; seconds: number }[];
  error: RunError | null;
}
