<script lang="ts">
  import { bytes, count, took } from "../lib/format";
  import type { Point } from "../lib/speed";
  import type { Leg, Run } from "../lib/types";
  import Problem from "./Problem.svelte";
  import RunPlan from "./RunPlan.svelte";
  import SlicesTable from "./SlicesTable.svelte";
  import Speed from "./Speed.svelte";
  import State from "./State.svelte";
  import StatementsTable from "./StatementsTable.svelte";
  import TallyView from "./TallyView.svelte";

  /** One leg of a run: its phases, what it has read and written, and how. */
  let { run, leg, ended, points }: { run: Run; leg: Leg; ended: boolean; points: Point[] } = $props();
  let about = $derived(leg.rows_about ? "about " : "");
  let share = $derived(leg.progress.bytes_total ? Math.min(1, (leg.progress.bytes_read ?? 0) / leg.progress.bytes_total) : 0);
</script>

<section class="panel mb-4" data-testid="leg">
  <h2 class="flex flex-wrap gap-2">
    <span class="min-w-0 [overflow-wrap:anywhere]">{run.kind === "undo" ? "" : `${leg.source} → `}{leg.target}</span>
    {#if leg.created_target && leg.tally}<span class="text-base-content/75 font-normal">table created</span>{/if}
    <span class="ml-auto font-normal tabular-nums">
      {#if leg.rows_after !== null && leg.rows_before !== null}
        rows in the target: {about}{count(leg.rows_before)} before, {about}{count(leg.rows_after)} after
      {:else if leg.rows_after !== null}
        rows in the {leg.strategy === "file set" ? "files written" : "target"}: {count(leg.rows_after)}
      {/if}
    </span>
  </h2>
  <ol class="divide-base-300 grid grid-cols-2 sm:grid-cols-5 sm:divide-x" aria-label="Phases">
    {#each leg.phases as one (one.name)}
      <li class="px-3.5 py-2">
        <div class="font-semibold">{one.name}</div>
        <State name={one.state} />
        <div class="text-base-content/75 text-xs tabular-nums">{one.ended_at ? took(one.started_at, one.ended_at) : " "}</div>
      </li>
    {:else}
      <li class="text-base-content/75 col-span-2 px-3.5 sm:col-span-5 py-2">{ended || leg.ended_at ? "Not begun." : "Waiting for a free worker, or for an earlier load into the same place."}</li>
    {/each}
  </ol>
  <div class="border-base-300 border-t px-3.5 py-2.5">
    {#if run.kind === "undo"}
      <p>The undo of <a class="plain" href="/runs/{run.origin}">run {run.origin}</a>: its load is taken back in one step; the log says how.</p>
    {:else if leg.tally}
      {#if run.kind === "rejects"}<p class="mb-1">Rows that <a class="plain" href="/runs/{run.origin}">run {run.origin}</a> rejected, read again:</p>{/if}
      <TallyView tally={leg.tally} />
      {#if leg.mark}
        <p class="mt-1.5 text-sm" data-testid="mark">
          Only what is new, {leg.mark.summary}{#if leg.mark.column}; the mark of <b class="font-semibold">{leg.mark.column}</b> is {leg.mark.after} now{:else if leg.mark.files}; {count(leg.mark.files)} more now{/if}.
        </p>
      {/if}
      {#if leg.gone}<p class="mt-1.5 text-sm">{count(leg.gone)} rows of the target are gone from the source: deleted or flagged, as the job says.</p>{/if}
      {#if leg.strategy}<p class="text-base-content/75 mt-1.5 text-sm" data-testid="strategy">Written by the strategy <b class="font-semibold">{leg.strategy}</b></p>{/if}
      {#if leg.strategy}{#key leg.number}<RunPlan run={run.id} leg={leg.number} />{/key}{/if}
      {#each leg.guards ?? [] as guard, place (place)}
        <p class="mt-1.5 text-sm {guard.passed === false ? 'text-warning' : 'text-base-content/75'}">
          {guard.passed === false ? "✗" : guard.passed ? "✓" : "·"} guard: {guard.name} is {guard.value}, and has to be {guard.limit}
        </p>
      {/each}
      {#if leg.checksums}
        <p class="text-base-content/75 mt-1.5 text-sm" title={Object.entries(leg.checksums).map(([name, sum]) => `${name} ${sum}`).join("\n")}>
          ✓ checksums of {count(Object.keys(leg.checksums).length)} columns: the target gives back what was sent
        </p>
      {/if}
    {:else if !leg.progress.rows_read && leg.progress.rows_scanned}
      <p class="tabular-nums">{count(leg.progress.rows_scanned)} rows scanned for their types, {bytes(leg.progress.bytes_scanned)}</p>
    {:else}
      <div class="flex flex-wrap gap-x-6 tabular-nums">
        <span><b>{count(leg.progress.rows_read ?? 0)}</b> rows read</span>
        <span><b>{count(leg.progress.rows_staged ?? 0)}</b> staged</span>
        <span><b>{count(leg.rejected)}</b> rejected</span>
        <span><b>{count(leg.progress.rows_per_second ?? 0)}</b> rows/s</span>
        <span class="ml-auto">{bytes(leg.progress.bytes_read)} of {bytes(leg.progress.bytes_total)}</span>
      </div>
      {#if !ended && !leg.ended_at}<progress class="progress progress-primary mt-1 w-full" value={share} max="1" aria-label="share of the source read"></progress>{/if}
    {/if}
    {#if leg.object && leg.error}<div class="mt-2"><Problem problem={leg.error} /></div>{/if}
  </div>
  <Speed {points} />
  {#if leg.statements.length}<StatementsTable statements={leg.statements} />{/if}
  {#if leg.slices.length}<SlicesTable slices={leg.slices} />{/if}
</section>
