<script lang="ts">
  /** An answer of a database as a picture; the rows stand in the table. */
  import uPlot from "uplot";
  import "uplot/dist/uPlot.min.css";
  import { isMoment, MOST_BARS, numeric, type Choice, type Value } from "../lib/chart";
  import { count, moment } from "../lib/format";

  let { columns, types, rows, choice }: { columns: string[]; types: string[]; rows: Value[][]; choice: Choice } = $props();
  let at = $state<HTMLDivElement>();
  const HEIGHT = 300;
  const COLOURS = ["--color-primary", "--color-info", "--color-success", "--color-warning", "--color-accent", "--color-error"];

  $effect(() => {
    if (!at) return;
    const host = at;
    const style = getComputedStyle(host);
    const colour = (name: string) => style.getPropertyValue(name).trim();
    const axis = { stroke: colour("--color-base-content"), grid: { stroke: colour("--color-base-300"), width: 1 }, font: "11px sans-serif" };
    const byPlace = choice.shape === "bar";
    const shown = byPlace ? rows.slice(0, MOST_BARS) : [...rows].filter((row) => numeric(row[choice.x]!, types[choice.x]!) !== null);
    const x = byPlace ? shown.map((_, place) => place) : shown.map((row) => numeric(row[choice.x]!, types[choice.x]!)!);
    // a line and points go from left to right, in whatever order the rows come
    const order = x.map((_, place) => place).sort((a, b) => x[a]! - x[b]!);
    const data = [order.map((place) => x[place]!), ...choice.y.map((column) => order.map((place) => numeric(shown[place]![column]!, types[column]!)))];
    // as moments are written elsewhere here; of a column of dates the day alone
    const moments = (_: uPlot, marks: number[]) => marks.map((mark) => (types[choice.x] === "date" ? new Date(mark * 1000).toISOString().slice(0, 10) : moment(new Date(mark * 1000).toISOString()).slice(5, 16)));
    const name = (place: number) => String(shown[place]?.[choice.x] ?? "");
    const chart = new uPlot(
      {
        width: host.clientWidth,
        height: HEIGHT,
        // a day begins at the same moment for everyone
        ...(types[choice.x] === "date" ? { tzDate: (seconds: number) => uPlot.tzDate(new Date(seconds * 1000), "Etc/UTC") } : {}),
        cursor: { drag: { x: choice.shape !== "bar", y: false } },
        scales: { x: { time: !byPlace && isMoment(types[choice.x]!), ...(byPlace ? { range: () => [-0.7, shown.length - 0.3] as [number, number] } : {}) }, y: byPlace ? { range: (_, least, most) => [Math.min(0, least), Math.max(0, most * 1.05)] } : {} },
        axes: [
          byPlace
            ? { ...axis, size: 70, rotate: shown.length > 8 ? -40 : 0, splits: () => shown.map((_, place) => place), values: (_, places) => places.map((place) => name(place).slice(0, 14)), grid: { show: false } }
            : { ...axis, label: columns[choice.x], labelSize: 18, ...(isMoment(types[choice.x]!) ? { values: moments, space: 90 } : {}) },
          { ...axis, size: 72, values: (_, marks) => marks.map((mark) => count(mark)) },
        ],
        series: [
          byPlace
            ? { label: columns[choice.x], value: (_, place) => (place === null ? "" : name(place)) }
            : { label: columns[choice.x], ...(isMoment(types[choice.x]!) ? { value: (plot, mark) => (mark === null ? "" : (moments(plot, [mark])[0] ?? "")) } : {}) },
          ...choice.y.map((column, place) => {
            const own = colour(COLOURS[place % COLOURS.length]!);
            return {
              label: columns[column],
              stroke: own,
              width: choice.shape === "points" ? 0 : 2,
              fill: choice.shape === "bar" ? own : undefined,
              paths: choice.shape === "bar" ? uPlot.paths.bars!({ size: [0.7, 60] }) : choice.shape === "points" ? () => null : undefined,
              points: { show: choice.shape === "points" || (choice.shape === "line" && shown.length < 60), size: 5, fill: own },
            };
          }),
        ],
      },
      data as uPlot.AlignedData,
      host,
    );
    const watch = new ResizeObserver(() => chart.setSize({ width: host.clientWidth, height: HEIGHT }));
    watch.observe(host);
    return () => {
      watch.disconnect();
      chart.destroy();
    };
  });
</script>

<div bind:this={at} class="min-w-0 px-2 py-2" role="img" aria-label="{choice.shape} of {choice.y.map((column) => columns[column]).join(', ')} by {columns[choice.x]}: see the rows" data-testid="chart"></div>
{#if choice.shape === "bar" && rows.length > MOST_BARS}<p class="text-base-content/75 px-3 pb-2 text-xs">The first {MOST_BARS} of {count(rows.length)} rows.</p>{/if}
