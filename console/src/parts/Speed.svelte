<script lang="ts">
  /** Rows a second over the time of a leg; the same stands in a table. */
  import uPlot from "uplot";
  import "uplot/dist/uPlot.min.css";
  import { count } from "../lib/format";
  import { speeds, type Point } from "../lib/speed";

  let { points }: { points: Point[] } = $props();
  let at = $state<HTMLDivElement>();
  let found = $derived(speeds(points));
  let enough = $derived(found.rows.length >= 3);
  let chart: uPlot | undefined;

  $effect(() => {
    if (!enough || !at) return;
    const style = getComputedStyle(at);
    const colour = (name: string) => style.getPropertyValue(name).trim();
    const axis = { stroke: colour("--color-base-content"), grid: { stroke: colour("--color-base-300"), width: 1 }, font: "11px sans-serif" };
    const drawn = new uPlot(
      {
        width: at.clientWidth,
        height: 130,
        title: "rows a second",
        cursor: { drag: { x: false, y: false } },
        legend: { show: false },
        scales: { x: { time: false }, y: { range: (_, __, most) => [0, Math.max(1, most * 1.1)] } },
        axes: [
          { ...axis, values: (_, marks) => marks.map((mark) => `${mark} s`) },
          { ...axis, size: 70, values: (_, marks) => marks.map((mark) => count(mark)) },
        ],
        series: [{}, { label: "rows a second", stroke: colour("--color-primary"), width: 2, points: { show: false } }],
      },
      [[], []],
      at,
    );
    chart = drawn;
    const watch = new ResizeObserver(() => drawn.setSize({ width: drawn.root.parentElement?.clientWidth ?? 0, height: 130 }));
    watch.observe(at);
    return () => {
      watch.disconnect();
      drawn.destroy();
      chart = undefined;
    };
  });
  $effect(() => {
    const data: uPlot.AlignedData = [found.seconds, found.rows];
    if (enough && at) chart?.setData(data);
  });
</script>

{#if enough}
  <div class="border-base-300 border-t px-3.5 py-2" data-testid="speed">
    <div bind:this={at} class="min-w-0" role="img" aria-label="Rows a second over the time of this leg: see the table"></div>
    <details class="text-xs">
      <summary class="cursor-pointer">as a table</summary>
      <div class="max-h-48 overflow-auto">
        <table class="table-xs table">
          <thead><tr><th class="num">After</th><th class="num">Rows a second</th></tr></thead>
          <tbody>
            {#each found.seconds as second, place (place)}<tr><td class="num">{second.toFixed(1)} s</td><td class="num">{count(found.rows[place])}</td></tr>{/each}
          </tbody>
        </table>
      </div>
    </details>
  </div>
{/if}
