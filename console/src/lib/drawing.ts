/** Places the objects and jobs of a map, left to right in the way of the rows. */
import { Graph, layout } from "@dagrejs/dagre";
import type { JobMap } from "./types";

export interface Spot {
  id: string;
  kind: "object" | "job";
  x: number;
  y: number;
  width: number;
  height: number;
}
export interface Line {
  from: string;
  to: string;
  /** Whether the second only waits for the first, and reads nothing of it. */
  waits: boolean;
  points: { x: number; y: number }[];
}
export interface Drawing {
  width: number;
  height: number;
  spots: Spot[];
  lines: Line[];
}

const LETTER = 6.6;
const WIDEST = 30;
export const jobId = (name: string) => `job ${name}`;

/** A name that is shortened to what a box has room for; its end says more than its middle. */
export function short(name: string, most = WIDEST): string {
  return name.length <= most ? name : `${name.slice(0, Math.ceil(most / 2) - 1)}…${name.slice(-Math.floor(most / 2))}`;
}

/** What leads from one to another: objects to the jobs that read them, jobs to what they write and to the jobs that wait for them. */
export function edgesOf(map: JobMap): { from: string; to: string; waits: boolean }[] {
  const names = new Set(map.jobs.map((job) => job.name));
  return [
    ...map.jobs.flatMap((job) => [
      ...job.reads.map((id) => ({ from: id, to: jobId(job.name), waits: false })),
      ...job.writes.map((id) => ({ from: jobId(job.name), to: id, waits: false })),
      ...job.after.filter((name) => names.has(name)).map((name) => ({ from: jobId(name), to: jobId(job.name), waits: true })),
    ]),
    ...map.same.map(([written, read]) => ({ from: written!, to: read!, waits: false })),
  ];
}

/** All that can be reached from `starts`, along the arrows or against them; the starts themselves are among it. */
export function reached(map: JobMap, starts: string[], ahead: boolean): Set<string> {
  const next = new Map<string, string[]>();
  for (const edge of edgesOf(map)) {
    const [from, to] = ahead ? [edge.from, edge.to] : [edge.to, edge.from];
    next.set(from, [...(next.get(from) ?? []), to]);
  }
  const found = new Set(starts);
  const waiting = [...starts];
  while (waiting.length) {
    for (const one of next.get(waiting.pop()!) ?? []) {
      if (!found.has(one)) {
        found.add(one);
        waiting.push(one);
      }
    }
  }
  return found;
}

/** The part of a map that has the ids in `wanted`. */
export function only(map: JobMap, wanted: Set<string>): JobMap {
  const jobs = map.jobs.filter((job) => wanted.has(jobId(job.name)));
  const ids = new Set([...wanted, ...jobs.flatMap((job) => [...job.reads, ...job.writes])]);
  return { objects: map.objects.filter((one) => ids.has(one.id)), jobs, same: map.same.filter((pair) => pair.every((id) => ids.has(id))) };
}

export function drawn(map: JobMap): Drawing {
  const graph = new Graph().setGraph({ rankdir: "LR", nodesep: 10, ranksep: 34, marginx: 8, marginy: 8 }).setDefaultEdgeLabel(() => ({}));
  for (const one of map.objects) {
    const letters = Math.max(one.is_query ? 0 : short(one.name).length, one.connection.length);
    graph.setNode(one.id, { width: Math.max(70, letters * LETTER + 18), height: 36 });
  }
  for (const job of map.jobs) graph.setNode(jobId(job.name), { width: Math.max(96, short(job.name).length * LETTER + 34), height: 38 });
  const edges = edgesOf(map);
  for (const edge of edges) graph.setEdge(edge.from, edge.to, { waits: edge.waits });
  layout(graph);
  const size = graph.graph();
  // ways leave on the right and come in on the left, in the middle
  const side = (id: string, by: number) => {
    const at = graph.node(id);
    return { x: at.x! + (by * at.width!) / 2, y: at.y! };
  };
  return {
    width: size.width ?? 0,
    height: size.height ?? 0,
    spots: graph.nodes().map((id) => {
      const at = graph.node(id);
      return { id, kind: id.startsWith("job ") ? "job" : "object", x: at.x!, y: at.y!, width: at.width!, height: at.height! };
    }),
    lines: graph.edges().map((edge) => {
      const at = graph.edge(edge) as { points: { x: number; y: number }[]; waits?: boolean };
      return { from: edge.v, to: edge.w, waits: !!at.waits, points: [side(edge.v, 1), ...at.points.slice(1, -1), side(edge.w, -1)] };
    }),
  };
}
