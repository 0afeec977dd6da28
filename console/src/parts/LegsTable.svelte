<script lang="ts">
  import { count, took } from "../lib/format";
  import type { Leg } from "../lib/types";
  import Rows from "./Rows.svelte";
  import State from "./State.svelte";

  /** The legs of a run, those that need attention first; `stop` stops one that has not ended. */
  let { legs, chosen, choose, stop }: { legs: Leg[]; chosen: number; choose: (leg: number) => void; stop?: (leg: number) => void } = $props();
  const ORDER = ["failed", "stopped", "running", "queued", "succeeded"];
  let search = $state("");
  let states = $derived(ORDER.map((name) => ({ name, legs: legs.filter((leg) => leg.state === name).length })).filter((one) => one.legs));
  let wanted = $state("");
  let found = $derived(
    legs
      .filter((leg) => (!wanted || leg.state === wanted) && leg.object.toLowerCase().includes(search.toLowerCase()))
      .sort((one, other) => ORDER.indexOf(one.state) - ORDER.indexOf(other.state) || one.number - other.number),
  );
  /** How much of its source a leg has read, from 0 to 1. */
  function share(leg: Leg): number {
    if (leg.state === "succeeded") return 1;
    return leg.progress.bytes_total ? Math.min(1, (leg.progress.bytes_read ?? 0) / leg.progress.bytes_total) : 0;
  }
  function what(leg: Leg): string {
    if (leg.error) return `${leg.error.code}: ${leg.error.detail}`;
    if (!leg.tally && leg.progress.rows_read) return `${count(leg.progress.rows_read)} rows read`;
    if (leg.mark && leg.tally && !leg.tally.read) return `nothing new ${leg.mark.summary}`;
    return leg.created_target && leg.tally ? "table created" : "";
  }
</script>

<section class="panel mb-4" data-testid="legs">
  <h2 class="flex flex-wrap items-center gap-x-4 gap-y-1">
    <span>{count(legs.length)} {legs.length === 1 ? "leg" : "legs"}</span>
    {#each states as one (one.name)}
      <button class="cursor-pointer font-normal {wanted === one.name ? 'underline' : ''}" aria-pressed={wanted === one.name} onclick={() => (wanted = wanted === one.name ? "" : one.name)}
        ><State name={one.name} /> {count(one.legs)}</button
      >
    {/each}
    {#if legs.length > 8}
      <input class="input input-xs ml-auto w-48 font-normal" placeholder="filter by object" aria-label="Filter by object" bind:value={search} />
    {/if}
  </h2>
  <Rows items={found} columns={11} height={32} tall="26rem" label="Legs" empty="No such leg.">
    {#snippet head()}
      <tr><th>Object</th><th>Into</th><th>State</th><th>Progress</th><th class="num">Took</th><th class="num">Read</th><th class="num">Inserted</th><th class="num">Updated</th><th class="num">Rejected</th><th>What happened</th><th><span class="sr-only">actions</span></th></tr>
    {/snippet}
    {#snippet row(leg)}
      <tr class="h-8 {leg.number === chosen ? 'bg-base-200' : ''}">
        <td class="max-w-56 truncate" title={leg.object}><button class="plain cursor-pointer text-left" aria-expanded={leg.number === chosen} onclick={() => choose(leg.number)}>{leg.object}</button></td>
        <td class="max-w-56 truncate" title={leg.target}>{leg.target.slice(leg.target.indexOf(":") + 1)}</td>
        <td><State name={leg.state} /></td>
        <td><div class="bg-base-300 h-2 w-24 overflow-hidden rounded-sm" role="img" aria-label="{Math.round(100 * share(leg))} % of {leg.object} read"><div class="{leg.state === 'failed' ? 'bg-error' : leg.state === 'succeeded' ? 'bg-success' : 'bg-info'} h-full" style="width: {100 * share(leg)}%"></div></div></td>
        <td class="num">{took(leg.started_at, leg.ended_at)}</td>
        <td class="num">{count(leg.tally?.read ?? leg.progress.rows_read)}</td>
        <td class="num">{count(leg.tally?.inserted)}</td>
        <td class="num">{count(leg.tally?.updated)}</td>
        <td class="num {leg.rejected ? 'text-error' : ''}">{count(leg.rejected)}</td>
        <td class="text-base-content/75 max-w-72 min-w-40 truncate" title={what(leg)}>{what(leg)}</td>
        <td>{#if stop && !leg.ended_at}<button class="btn btn-xs" aria-label="Stop {leg.object}" onclick={() => stop?.(leg.number)}>■</button>{/if}</td>
      </tr>
    {/snippet}
  </Rows>
</section>
