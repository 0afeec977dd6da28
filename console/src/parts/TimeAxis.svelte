<script lang="ts">
  /** Runs of the last 24 hours, a line for each job; what each bar says stands in the table below it, too. */
  import { moment, took } from "../lib/format";
  import type { RunBar } from "../lib/types";
  import State from "./State.svelte";

  let { runs, at }: { runs: RunBar[]; at: string } = $props();
  const DAY = 24 * 3600 * 1000;
  const MOST = 20;
  const LOOKS: Record<string, [string, string]> = {
    queued: ["bg-base-300 border border-dashed border-base-content/50", "◷"],
    running: ["bg-info", "▸"],
    succeeded: ["bg-success", ""],
    failed: ["bg-error", "✗"],
    stopped: ["bg-base-100 border border-warning", "■"],
  };
  let end = $derived(Date.parse(at));
  let begin = $derived(end - DAY);
  // what needs a look comes first and lies on top, where runs are nearer to each other than a bar is wide
  const WEIGHTS: Record<string, number> = { failed: 3, running: 2, stopped: 1 };
  const weight = (run: RunBar) => WEIGHTS[run.state] ?? 0;
  let heaviest = $derived.by(() => {
    const found = new Map<string, number>();
    for (const run of runs) found.set(run.job, Math.max(found.get(run.job) ?? 0, weight(run)));
    return found;
  });
  let jobs = $derived([...heaviest.keys()].sort((a, b) => (heaviest.get(b) ?? 0) - (heaviest.get(a) ?? 0) || a.localeCompare(b)));
  let hours = $derived.by(() => {
    const first = new Date(begin);
    first.setMinutes(0, 0, 0);
    first.setHours(first.getHours() + 1);
    const found = [];
    for (let time = first.getTime(); time < end; time += 3600 * 1000) {
      if (new Date(time).getHours() % 4 === 0) found.push(time);
    }
    return found;
  });
  const place = (time: number) => Math.min(100, Math.max(0, ((time - begin) / DAY) * 100));
  const starts = (run: RunBar) => place(Date.parse(run.started_at ?? run.queued_at));
  const ends = (run: RunBar) => place(run.ended_at ? Date.parse(run.ended_at) : end);
</script>

<div class="panel overflow-hidden px-4 py-3">
  <div class="grid grid-cols-[minmax(6rem,12rem)_1fr] gap-x-3 text-xs">
    <span></span>
    <div class="relative h-5" aria-hidden="true">
      {#each hours as hour (hour)}
        <span class="text-base-content/75 absolute -translate-x-1/2 {new Date(hour).getHours() % 12 ? 'hidden sm:inline' : ''} {place(hour) < 3 || place(hour) > 97 ? 'hidden!' : ''}" style="left: {place(hour)}%">{String(new Date(hour).getHours()).padStart(2, "0")}:00</span>
      {/each}
    </div>
    {#each jobs.slice(0, MOST) as job (job)}
      <a class="plain truncate py-1" href="/jobs/{job}" title={job}>{job}</a>
      <div class="border-base-300 relative my-0.5 h-5 border-b">
        {#each hours as hour (hour)}<span class="bg-base-300 absolute inset-y-0 w-px" style="left: {place(hour)}%"></span>{/each}
        {#each runs.filter((run) => run.job === job) as run (run.id)}
          <a
            href="/runs/{run.id}"
            class="absolute top-0.5 h-4 min-w-2 overflow-hidden rounded-sm text-center text-[0.65rem] leading-4 text-base-100 {LOOKS[run.state]?.[0]}"
            style="left: min(calc(100% - 0.5rem), {starts(run)}%); width: {Math.max(0, ends(run) - starts(run))}%; z-index: {weight(run)}"
            title="run {run.id}: {run.state}, {moment(run.started_at ?? run.queued_at)}, {took(run.started_at, run.ended_at)}"
            aria-label="run {run.id} of {run.job}: {run.state}">{LOOKS[run.state]?.[1]}</a
          >
        {/each}
      </div>
    {:else}
      <span class="col-span-2 py-2 text-sm">Nothing ran within the last 24 hours.</span>
    {/each}
  </div>
  {#if jobs.length > MOST}<p class="text-base-content/75 mt-1 text-xs">and {jobs.length - MOST} more jobs: see the table</p>{/if}
  {#if runs.length}
    <details class="mt-2 text-xs">
      <summary class="cursor-pointer">as a table</summary>
      <div class="max-h-80 overflow-auto">
        <table class="table-xs table">
          <thead><tr><th>Run</th><th>Job</th><th>State</th><th>Started</th><th>By</th><th class="num">Took</th></tr></thead>
          <tbody>
            {#each runs as run (run.id)}
              <tr>
                <td><a class="plain" href="/runs/{run.id}">{run.id}</a></td>
                <td>{run.job}</td>
                <td><State name={run.state} /></td>
                <td class="whitespace-nowrap">{moment(run.started_at ?? run.queued_at)}</td>
                <td>{run.trigger}</td>
                <td class="num">{took(run.started_at, run.ended_at)}</td>
              </tr>
            {/each}
          </tbody>
        </table>
      </div>
    </details>
  {/if}
</div>
