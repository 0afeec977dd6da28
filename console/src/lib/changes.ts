/** What differs between texts, line by line, and how changes of two persons are joined. */
import { diffLines } from "diff";
import { diff3Merge } from "node-diff3";

export interface DiffLine {
  sign: "+" | "-" | " " | "…";
  text: string;
}

const AROUND = 2;

/** Lines that are new (+) or gone (-), with some that are the same around them. */
export function differences(before: string, after: string): DiffLine[] {
  const all: DiffLine[] = diffLines(before, after).flatMap((part) => {
    const lines = part.value.replace(/\n$/, "").split("\n");
    return lines.map((text): DiffLine => ({ sign: part.added ? "+" : part.removed ? "-" : " ", text }));
  });
  const near = all.map((_, at) => all.slice(Math.max(0, at - AROUND), at + AROUND + 1).some((line) => line.sign !== " "));
  const found: DiffLine[] = [];
  all.forEach((line, at) => {
    if (near[at]) found.push(line);
    else if (found.at(-1)?.sign !== "…") found.push({ sign: "…", text: "" });
  });
  return found.every((line) => line.sign === "…") ? [] : found;
}

/** A piece of a merged text: lines both agree on, or what each has where both changed the same lines. */
export type Piece = { lines: string[] } | { mine: string[]; others: string[] };

/** The changes of two that began with the same text. */
export function merged(mine: string, start: string, others: string): Piece[] {
  const pieces = diff3Merge(mine.split("\n"), start.split("\n"), others.split("\n"), { excludeFalseConflicts: true });
  return pieces.map((piece) => (piece.ok ? { lines: piece.ok } : { mine: piece.conflict!.a, others: piece.conflict!.b }));
}

/** The text of pieces, with the side that was chosen for each that both changed. */
export function joined(pieces: Piece[], chosen: ("mine" | "others" | "both")[]): string {
  let at = 0;
  return pieces
    .flatMap((piece) => {
      if ("lines" in piece) return piece.lines;
      const side = chosen[at++] ?? "mine";
      return side === "both" ? [...piece.others, ...piece.mine] : piece[side];
    })
    .join("\n");
}
