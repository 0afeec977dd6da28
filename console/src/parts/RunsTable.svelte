<script lang="ts">
  import { count, follows, moment, startedBy, took } from "../lib/format";
  import type { RunLine } from "../lib/types";
  import State from "./State.svelte";
  const legsOf = (run: RunLine) => Object.values(run.legs).reduce((sum, legs) => sum + legs, 0);
  let { runs, withJob = true }: { runs: RunLine[]; withJob?: boolean } = $props();
</script>

<div class="overflow-x-auto">
  <table class="table-sm table">
    <thead>
      <tr>
        <th class="num">Run</th>
        {#if withJob}<th>Job</th>{/if}
        <th>State</th><th>Queued</th><th class="num">Took</th>{#if withJob}<th class="num">Read</th>{/if}<th class="num">Inserted</th><th class="num">Updated</th><th class="num">Rejected</th>{#if withJob}<th>By</th>{/if}
      </tr>
    </thead>
    <tbody>
      {#each runs as run (run.id)}
        <tr>
          <td class="num"><a class="plain" href="/runs/{run.id}">{run.id}</a></td>
          {#if withJob}<td><a class="plain" href="/jobs/{run.job}">{run.job}</a></td>{/if}
          <td class="whitespace-nowrap"><State name={run.state} />{#if run.state !== "succeeded" && run.outcome !== "nothing" && run.ended_at}<span class="ml-1.5"><State name={run.outcome} /></span>{/if}{#if run.kind !== "load"}<span class="text-base-content/75 ml-1.5">{follows(run)}</span>{/if}{#if withJob && legsOf(run) > 1}<span class="text-base-content/75 ml-1.5">{count(legsOf(run))} legs</span>{/if}</td>
          <td class="whitespace-nowrap">{moment(run.queued_at)}</td>
          <td class="num">{took(run.started_at, run.ended_at)}</td>
          {#if run.error}
            <td colspan={withJob ? 4 : 3} class="text-base-content/75 max-w-72 truncate" title={run.error.detail}>{run.error.detail}</td>
          {:else}
            {#if withJob}<td class="num">{count(run.tally?.read)}</td>{/if}
            <td class="num">{count(run.tally?.inserted)}</td>
            <td class="num">{count(run.tally?.updated)}</td>
            <td class="num">{count(run.tally?.rejected)}</td>
          {/if}
          {#if withJob}<td>{startedBy(run)}</td>{/if}
        </tr>
      {:else}
        <tr><td colspan="10" class="text-base-content/75">No runs yet.</td></tr>
      {/each}
    </tbody>
  </table>
</div>
