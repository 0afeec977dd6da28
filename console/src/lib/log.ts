/** What a run said: gathered while it happens, and shown once a frame, so that many lines stay smooth. */
export interface LogLine {
  at: string;
  leg: number | null;
  level: string;
  text: string;
  fix: string;
}

export const LEVELS = ["error", "warning", "info", "note"] as const;

/** Lines of these levels, with this text, of this leg (0 for all). */
export function chosen(lines: readonly LogLine[], levels: ReadonlySet<string>, search: string, leg: number): LogLine[] {
  const wanted = search.trim().toLowerCase();
  return lines.filter(
    (line) => (!leg || line.leg === leg) && (!levels.size || levels.has(line.level)) && (!wanted || `${line.text} ${line.fix}`.toLowerCase().includes(wanted)),
  );
}
