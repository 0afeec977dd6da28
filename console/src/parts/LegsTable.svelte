<script lang="ts">
  import { count, took } from "../lib/format";
  import type { Leg } from "../lib/types";
  import State from "./State.svelte";

  /** The legs of a run, those that need attention first; `stop` stops one that has not ended. */
  let { legs, chosen, choose, stop }: { legs: Leg[]; chosen: number; choose: (leg: number) => void; stop?: (leg: number) => void } = $props();
  const ORDER = ["failed", "stopped", "running", "queued", "succeeded"];
  const MOST = 200;
  let search = $state("");
  let states = $derived(ORDER.map((name) => ({ name, legs: legs.filter((leg) => leg.state === name).length })).filter((one) => one.legs));
  let wanted = $state("");
  let found = $derived(
    legs
      .filter((leg) => (!wanted || leg.state === wanted) && leg.object.toLowerCase().includes(search.toLowerCase()))
      .sort((one, other) => ORDER.indexOf(one.state) - ORDER.indexOf(other.state) || one.number - other.number),
  );
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
  <div class="max-h-[26rem] overflow-auto">
    <table class="table-sm table">
      <thead>
        <tr><th>Object</th><th>Into</th><th>State</th><th class="num">Took</th><th class="num">Read</th><th class="num">Inserted</th><th class="num">Updated</th><th class="num">Rejected</th><th>What happened</th><th></th></tr>
      </thead>
      <tbody>
        {#each found.slice(0, MOST) as leg (leg.number)}
          <tr class={leg.number === chosen ? "bg-base-200" : ""}>
            <td class="min-w-32 [overflow-wrap:anywhere]"><button class="plain cursor-pointer text-left" aria-expanded={leg.number === chosen} onclick={() => choose(leg.number)}>{leg.object}</button></td>
            <td class="min-w-32 [overflow-wrap:anywhere]">{leg.target.slice(leg.target.indexOf(":") + 1)}</td>
            <td><State name={leg.state} /></td>
            <td class="num">{took(leg.started_at, leg.ended_at)}</td>
            <td class="num">{count(leg.tally?.read)}</td>
            <td class="num">{count(leg.tally?.inserted)}</td>
            <td class="num">{count(leg.tally?.updated)}</td>
            <td class="num">{count(leg.rejected)}</td>
            <td class="text-base-content/70 max-w-72 min-w-40 truncate" title={what(leg)}>{what(leg)}</td>
            <td>{#if stop && !leg.ended_at}<button class="btn btn-xs" aria-label="Stop {leg.object}" onclick={() => stop?.(leg.number)}>■</button>{/if}</td>
          </tr>
        {:else}
          <tr><td colspan="10" class="text-base-content/70">No such leg.</td></tr>
        {/each}
      </tbody>
    </table>
    {#if found.length > MOST}<p class="text-base-content/70 px-3.5 py-1.5 text-sm">{MOST} of {count(found.length)}; filter to see the others.</p>{/if}
  </div>
</section>
