import { describe, expect, it } from "vitest";
import { apart, itemsOf, plain, quoted, RENAMINGS, together, withItems } from "../src/lib/columns";

describe("items of a select list", () => {
  it.each([
    ["booking_id", { expression: "booking_id", name: "", type: "" }],
    ["booking_id bigint", { expression: "booking_id", name: "", type: "bigint" }],
    ["hut_code as hut text(4)", { expression: "hut_code", name: "hut", type: "text(4)" }],
    ['"Hut Code" as "the hut" decimal(12, 2)', { expression: '"Hut Code"', name: '"the hut"', type: "decimal(12, 2)" }],
    ["nights * night_price as total", { expression: "nights * night_price", name: "total", type: "" }],
    ["cast(x as integer) as y", { expression: "cast(x as integer)", name: "y", type: "" }],
    ["'' as note text", { expression: "''", name: "note", type: "text" }],
  ])("%s comes apart, and together again", (text, parts) => {
    expect(apart(text)).toEqual(parts);
    expect(together(apart(text))).toBe(text);
  });

  it("names that are no plain words are quoted, and come back", () => {
    for (const name of ["hut", "Hut Code", 'a "b"', "Übernachtungen", "2nd", "case", "é"]) expect(plain(quoted(name))).toBe(name);
    expect(quoted("hut")).toBe("hut");
    expect(quoted("case")).toBe('"case"');
  });

  it.each([
    ["Hut Code", "hut_code"],
    ["hutCode", "hut_code"],
    ["  A--b ", "a_b"],
  ])("%s becomes %s", (name, wanted) => expect(RENAMINGS.snake_case!(name)).toBe(wanted));
});

const FILE = "job: huts\ncolumns:\n  - a integer   # the first\n  - b\n  - c\ninto: {table: t}\n";

describe("a select list in its file", () => {
  it("keeps comments of items that stay, move or change", () => {
    expect(withItems(FILE, ["c", "a integer", "b"])).toContain("- a integer # the first");
    expect(withItems(FILE, ["a bigint", "b", "c"])).toContain("- a bigint # the first");
    expect(itemsOf(withItems(FILE, ["c", "a integer"]))).toEqual(["c", "a integer"]);
  });

  it("is put before the target where there is none yet", () => {
    const made = withItems("job: huts\ninto: {table: t}\n", ["a", "b"]);
    expect(made.indexOf("columns")).toBeLessThan(made.indexOf("into"));
    expect(itemsOf("job: huts\n")).toEqual(["*"]);
    expect(itemsOf("columns: [")).toBeNull();
  });

  it("of 500 columns is changed quickly enough to be typed", () => {
    const items = Array.from({ length: 500 }, (_, at) => `column_${at} as target_${at} decimal(12,2)`);
    const file = withItems("job: wide\ninto: {table: t}\n", items);
    const changed = [...items];
    changed[250] = "column_250 as another";
    expect(itemsOf(withItems(file, changed))).toEqual(changed);
  });
});
