<script lang="ts">
  /** Rows and seconds of a job's last runs, with the range that is usual; the same stands in a table. */
  import { onMount } from "svelte";
  import uPlot from "uplot";
  import "uplot/dist/uPlot.min.css";
  import { get } from "../lib/api";
  import { count, moment } from "../lib/format";
  import type { JobHistory } from "../lib/types";
  import State from "./State.svelte";

  let { job }: { job: string } = $props();
  let history = $state<JobHistory | null>(null);
  let rowsAt = $state<HTMLDivElement>();
  let secondsAt = $state<HTMLDivElement>();

  onMount(async () => {
    // the page itself says what is wrong with the job
    history = await get<JobHistory>(`jobs/${encodeURIComponent(job)}/history`).catch(() => null);
  });

  function drawn(at: HTMLDivElement, label: string, values: (number | null)[], usual: number[] | null, found: JobHistory): () => void {
    const style = getComputedStyle(at);
    const colour = (name: string) => style.getPropertyValue(name).trim();
    const text = colour("--color-base-content");
    const failed = found.runs.map((run, place) => (run.state === "succeeded" ? null : values[place]));
    const axis = { stroke: text, grid: { stroke: colour("--color-base-300"), width: 1 }, font: "11px sans-serif" };
    const chart = new uPlot(
      {
        width: at.clientWidth,
        height: 160,
        title: label,
        cursor: { drag: { x: false, y: false } },
        legend: { show: false },
        scales: { x: { time: false }, y: { range: (_, __, most) => [0, Math.max(1, most * 1.1)] } },
        axes: [
          { ...axis, values: (_, places) => places.map((place) => found.runs[place]?.run ?? "") },
          { ...axis, size: 60, values: (_, marks) => marks.map((mark) => count(mark)) },
        ],
        series: [
          {},
          { label, stroke: colour("--color-primary"), width: 2, points: { show: true, size: 5 } },
          { label: "not succeeded", stroke: colour("--color-error"), width: 0, points: { show: true, size: 9, fill: colour("--color-error") } },
        ],
        hooks: {
          drawClear: [
            (plot) => {
              if (!usual) return;
              const top = plot.valToPos(usual[1]!, "y", true);
              const bottom = plot.valToPos(usual[0]!, "y", true);
              plot.ctx.fillStyle = colour("--color-base-300");
              plot.ctx.fillRect(plot.bbox.left, top, plot.bbox.width, Math.max(2, bottom - top));
            },
          ],
        },
      },
      [found.runs.map((_, place) => place), values, failed],
      at,
    );
    const watch = new ResizeObserver(() => chart.setSize({ width: at.clientWidth, height: 160 }));
    watch.observe(at);
    return () => {
      watch.disconnect();
      chart.destroy();
    };
  }

  /** Guards by what they are about, each with what was found by run, the newest first. */
  let guards = $derived.by(() => {
    const found = new Map<string, { limit: string; values: { run: number; value: string; passed: boolean | null }[] }>();
    for (const run of [...(history?.runs ?? [])].reverse()) {
      for (const guard of run.guards) {
        const one = found.get(guard.name) ?? { limit: guard.limit, values: [] };
        one.values.push({ run: run.run, value: guard.value, passed: guard.passed });
        found.set(guard.name, one);
      }
    }
    return [...found];
  });

  $effect(() => {
    if (!history || history.runs.length < 2 || !rowsAt || !secondsAt) return;
    const undone = [
      drawn(rowsAt, "rows written", history.runs.map((run) => run.rows), history.usual_rows, history),
      drawn(secondsAt, "seconds", history.runs.map((run) => run.seconds), history.usual_seconds, history),
    ];
    return () => undone.forEach((undo) => undo());
  });
</script>

{#if history && history.runs.length >= 2}
  <div class="border-base-300 border-t px-3.5 py-2">
    <div>
      <div class="grid gap-4">
        <div bind:this={rowsAt} class="min-w-0" role="img" aria-label="Rows written by the last runs: see the table"></div>
        <div bind:this={secondsAt} class="min-w-0" role="img" aria-label="Seconds that the last runs took: see the table"></div>
      </div>
      <p class="text-base-content/75 text-xs">
        By the numbers of runs. Grey: between these the middle half of the last ten good runs is. Red: runs that did not succeed.
      </p>
      <details class="mt-1 text-xs">
        <summary class="cursor-pointer">as a table</summary>
        <div class="max-h-64 overflow-auto">
          <table class="table-xs table">
            <thead><tr><th>Run</th><th>State</th><th>Ended</th><th class="num">Rows written</th><th class="num">Seconds</th></tr></thead>
            <tbody>
              {#each [...history.runs].reverse() as run (run.run)}
                <tr>
                  <td><a class="plain" href="/runs/{run.run}">{run.run}</a></td>
                  <td><State name={run.state} /></td>
                  <td class="whitespace-nowrap">{moment(run.at)}</td>
                  <td class="num">{count(run.rows)}</td>
                  <td class="num">{run.seconds?.toFixed(1) ?? "—"}</td>
                </tr>
              {/each}
            </tbody>
          </table>
        </div>
      </details>
    </div>
  </div>
{/if}
{#if guards.length}
  <div class="border-base-300 border-t px-3.5 py-2" data-testid="guards">
    <h3 class="mb-1 text-sm font-semibold">Guards in the last runs, the newest first</h3>
    <div class="overflow-x-auto">
      <table class="table-xs table">
        <thead><tr><th>Guard</th><th>Has to be</th><th>Was</th></tr></thead>
        <tbody>
          {#each guards as [name, guard] (name)}
            <tr>
              <td class="whitespace-nowrap">{name}</td>
              <td class="whitespace-nowrap">{guard.limit}</td>
              <td>
                {#each guard.values.slice(0, 10) as one, place (place)}
                  <a class="mr-3 inline-block whitespace-nowrap {one.passed === false ? 'text-warning font-semibold' : ''}" href="/runs/{one.run}" title="run {one.run}"
                    >{one.passed === false ? "✗" : one.passed ? "✓" : "·"} {one.value}</a
                  >
                {/each}
              </td>
            </tr>
          {/each}
        </tbody>
      </table>
    </div>
  </div>
{/if}
