import { describe, expect, it } from "vitest";
import { differences, joined, merged } from "../src/lib/changes";

const START = "a\nb\nc\nd\ne\nf\n";

describe("what differs", () => {
  it("has the lines around it, and no others", () => {
    const lines = differences(START, "a\nb\nc\nD\ne\nf\n").map((line) => line.sign + line.text);
    expect(lines).toEqual(["…", " b", " c", "-d", "+D", " e", " f"]);
    expect(differences(START, START)).toEqual([]);
  });
});

describe("changes of two persons", () => {
  it("of different lines are joined", () => {
    const pieces = merged("a\nb\nc\nd\ne\nmine\n", START, "theirs\nb\nc\nd\ne\nf\n");
    expect(pieces.some((piece) => "mine" in piece)).toBe(false);
    expect(joined(pieces, [])).toBe("theirs\nb\nc\nd\ne\nmine\n");
  });

  it.each([
    ["mine", "a\nb\nMINE\nd\ne\nf\n"],
    ["others", "a\nb\nTHEIRS\nd\ne\nf\n"],
    ["both", "a\nb\nTHEIRS\nMINE\nd\ne\nf\n"],
  ] as const)("of the same line are chosen: %s", (side, text) => {
    const pieces = merged("a\nb\nMINE\nd\ne\nf\n", START, "a\nb\nTHEIRS\nd\ne\nf\n");
    expect(pieces.filter((piece) => "mine" in piece)).toHaveLength(1);
    expect(joined(pieces, [side])).toBe(text);
  });

  it("that are alike are one", () => {
    expect(joined(merged("a\nx\n", "a\nb\n", "a\nx\n"), [])).toBe("a\nx\n");
  });
});
