/** What the API gives: by the generated description, and what its JSON holds that it does not describe. */
import type { components } from "./answers";

type Schemas = components["schemas"];

export type StateName = Schemas["RunState"];
export type Account = Schemas["Account"];
export type KnownToken = Schemas["Token"];
export type AuditEntry = Schemas["AuditEntry"];
export type User = Schemas["User"];
export type ProblemBody = Partial<Schemas["Problem"]> & { status: number; code: string; detail: string };
export type RunError = Schemas["Error"];
export type Tally = Schemas["Tally"];
export type RunLine = Schemas["RunLine"];
export type Phase = Schemas["Phase"];
export type Progress = Schemas["Progress"];
export type Leg = Schemas["Leg"];
export type FeedLine = Schemas["Feed"];
export type FeedEntry = Schemas["FeedFile"];
export type FeedDays = Schemas["FeedDays"];
export type CheckedLeg = Schemas["CheckedLeg"];
export type Mark = Schemas["Mark"];
export type Run = Schemas["Run"];
export type RunDifferences = Schemas["Differences"];
export type Today = Schemas["Today"];
export type RunBar = Schemas["RunBar"];
export type ScheduleLine = Schemas["Schedule"];
export type JobHistory = Schemas["History"];
export type JobLine = Schemas["JobSummary"];
export type Job = Schemas["Job"];
export type Edit = Schemas["Edit"];
export type Finding = Schemas["Finding"];
export type Check = Schemas["Check"];
export type Rehearsal = Schemas["Rehearsal"];
export type Comparison = Schemas["Comparison"];
export type JobComparison = Schemas["JobComparison"];
export type Reject = Schemas["Reject"];
export type StreamLine = Schemas["StreamLine"];
export type Stream = Schemas["Stream"];
export type StreamMinute = Schemas["StreamMinute"];
export type StreamReject = Schemas["StreamReject"];
export type Change = Schemas["Change"];
export type RunEvent = Schemas["RunEvent"];
export type Connection = Schemas["Connection"];
export type Probe = Schemas["Probe"];
export type StoredObject = Schemas["StoredObject"];
export type ObjectPage = Schemas["Objects"];
export type Answer = Schemas["Answer"];
export type JobMap = Schemas["Map"];
export type ColumnSteps = Schemas["ColumnSteps"];
export type Revision = Schemas["Revision"];
export type ValueCounts = Schemas["ValueCounts"];
export type SeenColumn = Schemas["SeenColumn"];
export type RawStart = Schemas["RawBytes"];

export type NotifyRule = Schemas["NotifyRule"];
/** What is said of each is JSON of its own. */
export type SentMessage = Omit<Schemas["Message"], "items"> & { items: { job?: string; run?: number; text?: string }[] };

export interface Page<T> {
  items: T[];
  total: number;
  page: number;
  pages: number;
}

export interface FixedField {
  name: string;
  width: number;
  start?: number;
  trim?: string;
}

/** A layout has other keys for each format: its JSON Schema describes them. */
export type Layout = { format: string; fields?: FixedField[]; values?: Record<string, unknown> } & Record<string, unknown>;

export type Preview = Omit<Schemas["Preview"], "layout" | "rows"> & {
  layout?: Layout;
  rows: (string | number | boolean | null)[][];
};

export type SavedLayout = Omit<Schemas["Layout"], "structure"> & {
  structure: { reads: Layout; expects?: { name: string; type: string }[] };
};
