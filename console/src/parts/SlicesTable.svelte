<script lang="ts">
  import { count, took } from "../lib/format";
  import type { Leg } from "../lib/types";
  import State from "./State.svelte";

  /** The slices of a leg: which rows each copies, where, and how far it is. */
  let { slices }: { slices: Leg["slices"] } = $props();
  let done = $derived(slices.filter((slice) => slice.state === "succeeded").length);
  function share(slice: Leg["slices"][number]): number {
    if (slice.state === "succeeded") return 1;
    const total = slice.progress.bytes_total ?? 0;
    return total ? Math.min(1, (slice.progress.bytes_read ?? 0) / total) : 0;
  }
</script>

<details class="border-base-300 border-t" open={slices.length <= 16} data-testid="slices">
  <summary class="cursor-pointer px-3.5 py-2 font-semibold">{count(done)} of {count(slices.length)} slices are staged</summary>
  <div class="max-h-80 overflow-auto">
    <table class="table-sm table">
      <thead>
        <tr><th class="num">Slice</th><th>Rows</th><th>State</th><th>Progress</th><th class="num">Read</th><th class="num">Took</th><th class="num">Attempts</th><th>Worker</th></tr>
      </thead>
      <tbody>
        {#each slices as slice (slice.number)}
          <tr>
            <td class="num">{slice.number}</td>
            <td class="min-w-40 [overflow-wrap:anywhere]">{slice.label}</td>
            <td class="whitespace-nowrap"><State name={slice.state} /></td>
            <td><progress class="progress progress-primary w-24" value={share(slice)} max="1" aria-label="share of slice {slice.number} that is read"></progress></td>
            <td class="num">{count(slice.progress.rows_read ?? 0)}</td>
            <td class="num">{slice.started_at ? took(slice.started_at, slice.ended_at) : ""}</td>
            <td class="num">{slice.attempts}</td>
            <td class="text-base-content/75 whitespace-nowrap" title={slice.error?.detail}>{slice.worker}</td>
          </tr>
        {/each}
      </tbody>
    </table>
  </div>
</details>
