import { describe, expect, it } from "vitest";
import { read, readJob, valueAt, withValue, withValues, written, type Path } from "../src/lib/jobfile";

const FILE = `# the huts
ultravect: 1
job: huts   # its name
from: {connection: incoming, files: huts.csv}
into:
  connection: warehouse
  table: hut     # where
  mode: overwrite
  keys: [hut_code]
run:
  schedule: {cron: "15 2 * * *"}
`;

describe("a job file is changed by its keys", () => {
  it.each<[string, Path, unknown, string, string]>([
    ["a value is replaced, its comment stays", ["into", "table"], "huts", "table: huts", "# where"],
    ["a key is added", ["into", "rejects"], 5, "rejects: 5", "# where"],
    ["a key of a section that is not there", ["guard", "rows_read", "at_least"], 1, "at_least: 1", "# the huts"],
    ["a text that looks like a number stays a text", ["into", "table"], "12", '"12"', "# where"],
    ["a number takes the place of a text", ["into", "mode"], 3, "mode: 3", "# where"],
    ["a list is on one line", ["into", "keys"], ["a", "b"], "keys: [ a, b ]", "# its name"],
    ["what is inside of a flow", ["from", "where"], "x > 1", "where: x > 1", "# the huts"],
    ["within a schedule", ["run", "schedule", "timezone"], "Europe/Zurich", "timezone: Europe/Zurich", 'cron: "15 2 * * *"'],
  ])("%s", (_, path, value, part, stays) => {
    const changed = withValue(FILE, path, value);
    expect(changed).toContain(part);
    expect(changed).toContain(stays);
    expect(valueAt(readJob(changed), path)).toEqual(value);
  });

  it.each<[unknown]>([[undefined], [""], [[]], [{}]])("%j takes a key out", (nothing) => {
    expect(readJob(withValue(FILE, ["into", "keys"], nothing))?.into).toEqual({ connection: "warehouse", table: "hut", mode: "overwrite" });
  });

  it("takes sections out that become empty", () => {
    expect(readJob(withValue(FILE, ["run", "schedule", "cron"], undefined))).not.toHaveProperty("run");
  });

  it("replaces one way of naming the source by another, at once", () => {
    const changed = withValues(FILE, [[["from", "files"], undefined], [["from", "table"], "hut"]]);
    expect(readJob(changed)?.from).toEqual({ connection: "incoming", table: "hut" });
  });

  it("leaves a file alone that cannot be read", () => {
    expect(withValue("into: [", ["into", "mode"], "append")).toBe("into: [");
    expect(readJob("into: [")).toBeNull();
    expect(readJob("- a list")).toBeNull();
  });

  it("puts one schedule in the place of a list of them", () => {
    const many = withValue(FILE, ["run", "schedule"], [{ cron: "0 1 * * *" }, { cron: "0 2 * * *" }]);
    const one = withValue(many, ["run", "schedule", 0], undefined);
    expect(valueAt(readJob(one), ["run", "schedule"])).toEqual([{ cron: "0 2 * * *" }]);
  });
});

describe("values on one line", () => {
  it.each<[unknown, string]>([
    ["append", "append"],
    ["12", '"12"'],
    [12, "12"],
    [true, "true"],
    ["true", '"true"'],
    [{ flag: "is_gone" }, "{ flag: is_gone }"],
    [["keys", "defaults"], "[ keys, defaults ]"],
    [undefined, ""],
    ["5 %", "5 %"],
  ])("%j is written %s, and read back", (value, text) => {
    expect(written(value)).toBe(text);
    expect(read(text).value).toEqual(value);
  });

  it("says what cannot be read", () => {
    expect(read("{flag: ").problem).toBeTruthy();
    expect(read("  ")).toEqual({});
  });
});
