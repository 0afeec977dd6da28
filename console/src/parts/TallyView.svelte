<script lang="ts">
  import { count } from "../lib/format";
  import type { Tally } from "../lib/types";
  let { tally }: { tally: Tally } = $props();
  const PARTS = [
    ["inserted", "bg-success"],
    ["updated", "bg-info"],
    ["unchanged", "bg-base-content/30"],
    ["repeated", "bg-accent"],
    ["filtered", "bg-secondary"],
    ["rejected", "bg-error"],
  ] as const;
  let total = $derived(PARTS.reduce((sum, [name]) => sum + tally[name], 0));
</script>

<div class="flex flex-wrap items-baseline gap-x-3 gap-y-1" data-testid="tally">
  <span class="text-lg font-semibold tabular-nums">{count(tally.read)}</span><span>read</span>
  <span aria-hidden="true">=</span>
  {#each PARTS as [name, colour], index (name)}
    {#if index}<span aria-hidden="true" class="text-base-content/75">+</span>{/if}
    <span class={tally[name] ? "" : "text-base-content/75"}>
      <span aria-hidden="true" class="mr-1 inline-block size-2 rounded-sm {colour}"></span><span
        class="tabular-nums {tally[name] ? 'font-semibold' : ''}">{count(tally[name])}</span
      >
      {name}
    </span>
  {/each}
  <span class="ml-auto whitespace-nowrap {total === tally.read ? 'text-success' : 'text-error'}">
    {total === tally.read ? "✓ adds up" : "✗ does not add up"}
  </span>
</div>
{#if tally.read}
  <div class="bg-base-300 mt-2 flex h-2 overflow-hidden rounded-sm" aria-hidden="true">
    {#each PARTS as [name, colour] (name)}
      {#if tally[name]}<div class={colour} style="width:{(100 * tally[name]) / tally.read}%;min-width:3px"></div>{/if}
    {/each}
  </div>
{/if}
