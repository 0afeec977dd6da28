/** Job files that were changed and not saved yet, kept in this browser: a reload loses nothing. */
export interface Draft {
  text: string;
  /** The text that it began with, and its revision: what others have saved meanwhile is merged by them. */
  start: string;
  etag: string | null;
  at: string;
}

const key = (job: string) => `draft:${job}`;
/** The draft of a job that has no name yet. */
export const NEW = " new";

export function draftOf(job: string): Draft | null {
  try {
    const kept = JSON.parse(localStorage.getItem(key(job)) ?? "null") as Draft | null;
    return typeof kept?.text === "string" && typeof kept.start === "string" ? kept : null;
  } catch {
    return null;
  }
}

export function keepDraft(job: string, draft: Omit<Draft, "at">): void {
  try {
    localStorage.setItem(key(job), JSON.stringify({ ...draft, at: new Date().toISOString() }));
  } catch {
    // no room in this browser: the page still has it
  }
}

export function dropDraft(job: string): void {
  localStorage.removeItem(key(job));
}
