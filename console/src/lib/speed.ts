/** How many rows a leg read within a second, over its time: points of what it said of its progress. */
export type Point = { at: number; rows: number };

const MOST = 600;

/** Adds a point, and leaves every second one out where there are more than a picture can show. */
export function added(points: Point[], at: string, rows: number): Point[] {
  const last = points.at(-1);
  // read again from the start: what was before counts no more
  if (last && rows < last.rows) return [{ at: Date.parse(at), rows }];
  const more = [...points, { at: Date.parse(at), rows }];
  return more.length > MOST ? more.filter((_, place) => place % 2 === 0 || place === more.length - 1) : more;
}

/** Between each two points: the seconds since the first, and rows a second. */
export function speeds(points: Point[]): { seconds: number[]; rows: number[] } {
  const seconds: number[] = [];
  const rows: number[] = [];
  let from = points[0];
  for (const point of points.slice(1)) {
    const passed = from ? (point.at - from.at) / 1000 : 0;
    // what came within a moment is one point
    if (!from || passed < 0.2) continue;
    seconds.push((point.at - points[0]!.at) / 1000);
    rows.push(Math.round((point.rows - from.rows) / passed));
    from = point;
  }
  return { seconds, rows };
}
