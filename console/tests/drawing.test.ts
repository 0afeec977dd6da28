import { describe, expect, it } from "vitest";
import { choices } from "../src/lib/chart";
import { csvOf } from "../src/lib/asked";
import { drawn, jobId, only, reached } from "../src/lib/drawing";
import { chosen, type LogLine } from "../src/lib/log";
import { proposals } from "../src/lib/near";
import { keysOf, type Schema } from "../src/lib/schema";
import type { JobMap } from "../src/lib/types";

const job = (name: string, reads: string[], writes: string[], after: string[] = []) => ({ name, reads, writes, after, state: "succeeded", run: 1, at: null, is_stream: false });
const MAP: JobMap = {
  objects: ["in:a", "wh:b", "wh:c", "out:d"].map((id) => ({ id, connection: id.split(":")[0]!, name: id.split(":")[1]!, is_query: false })),
  jobs: [job("load", ["in:a"], ["wh:b"]), job("sum", ["wh:b"], ["wh:c"]), job("export", ["wh:c"], ["out:d"], ["load"]), job("other", ["in:a"], ["out:d"])],
  same: [],
};

describe("a map", () => {
  it("knows what follows from a job, and what it comes from", () => {
    expect([...reached(MAP, [jobId("sum")], true)].sort()).toEqual(["job export", "job sum", "out:d", "wh:c"]);
    expect(reached(MAP, ["wh:c"], false)).toEqual(new Set(["wh:c", "job sum", "wh:b", "job load", "in:a"]));
  });

  it("is drawn from left to right, without overlaps", () => {
    const picture = drawn(MAP);
    const x = new Map(picture.spots.map((spot) => [spot.id, spot.x]));
    for (const line of picture.lines) expect(x.get(line.from)!).toBeLessThan(x.get(line.to)!);
    for (const a of picture.spots) {
      for (const b of picture.spots) {
        if (a.id === b.id) continue;
        expect(Math.abs(a.x - b.x) >= (a.width + b.width) / 2 - 1 || Math.abs(a.y - b.y) >= (a.height + b.height) / 2 - 1).toBe(true);
      }
    }
  });

  it("of a part has the ends of its jobs", () => {
    const part = only(MAP, new Set([jobId("sum")]));
    expect([part.jobs.map((one) => one.name), part.objects.map((one) => one.id)]).toEqual([["sum"], ["wh:b", "wh:c"]]);
  });

  it("with circles ends", () => {
    const circle = { ...MAP, jobs: [job("x", ["wh:b"], ["wh:c"]), job("y", ["wh:c"], ["wh:b"])] };
    expect(reached(circle, ["wh:b"], true).size).toBe(4);
    expect(drawn(circle).spots.length).toBe(6);
  });
});

describe("near names", () => {
  it("are proposed once each, the best first", () => {
    const found = proposals(["hut_code", "arrival_date", "zebra"], ["HutCode", "arrival", "nights"]);
    expect(found.map((pair) => [pair.wanted, pair.found])).toEqual([["hut_code", "HutCode"], ["arrival_date", "arrival"]]);
  });
});

describe("an answer", () => {
  it.each([
    [["date", "bigint"], "line"],
    [["text(4)", "integer", "decimal(10,2)"], "bar"],
    [["double", "double"], "points"],
  ])("of %j is drawn as %s", (types, shape) => expect(choices(types)[0]?.shape).toBe(shape));
  it("without numbers is not drawn", () => expect(choices(["text", "date"])).toEqual([]));
  it("is CSV with what could be mistaken quoted", () => {
    expect(csvOf(["a", "b,c"], [[1, 'x "y"'], [null, ""], [{ k: 1 }, "z\n"]])).toBe('a,"b,c"\r\n1,"x ""y"""\r\n,""\r\n"{""k"":1}","z\n"\r\n');
  });
});

describe("a log", () => {
  const lines: LogLine[] = Array.from({ length: 50_000 }, (_, at) => ({ at: "", leg: at % 3, level: at % 100 ? "info" : "warning", text: `line ${at}`, fix: "" }));
  it("is searched by level, leg and text", () => {
    expect(chosen(lines, new Set(["warning"]), "line 100", 0).length).toBe(3);
    expect(chosen(lines, new Set(), "", 2).length).toBe(16_666);
  });
});

describe("keys of a section", () => {
  const schema: Schema = {
    properties: { into: { $ref: "#/$defs/Target" } },
    $defs: {
      Target: {
        properties: {
          mode: { enum: ["append", "upsert"], type: "string", default: "append", description: "How." },
          rejects: { anyOf: [{ type: "integer" }, { type: "string" }], default: 0 },
          keys: { type: "array", items: { type: "string" } },
          split: { $ref: "#/$defs/Split" },
          parts: { type: "array", items: { $ref: "#/$defs/Split" } },
          gone: { anyOf: [{ enum: ["keep"], type: "string" }, { $ref: "#/$defs/Split" }] },
        },
      },
      Split: { properties: { rows: { anyOf: [{ type: "integer", minimum: 1 }, { type: "null" }] }, again: { $ref: "#/$defs/Split" } } },
    },
  };
  it("have a kind each, and end where a section is within itself", () => {
    const keys = keysOf(schema, "Target");
    expect(keys.map((one) => [one.key, one.kind])).toEqual([["mode", "choice"], ["rejects", "yaml"], ["keys", "list"], ["split", "section"], ["parts", "sections"], ["gone", "yaml"]]);
    expect(keys[3]!.keys.map((one) => [one.key, one.kind, one.least])).toEqual([["rows", "number", 1], ["again", "yaml", undefined]]);
    expect(keys[0]!.about).toBe("How.");
    expect(keys[5]!.choices).toEqual(["keep"]);
  });
});
