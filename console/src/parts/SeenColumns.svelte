<script lang="ts">
  import { count } from "../lib/format";
  import { mapPage } from "../lib/places";
  import type { SeenColumn } from "../lib/types";
  import Spread from "./Spread.svelte";

  /** Columns with their types; once counted, with what their values are. `object`: the id by which the map knows them. */
  let { columns, object = "" }: { columns: SeenColumn[]; object?: string } = $props();
  let counted = $derived(columns.some((one) => one.counts));
  // once counted, what the values are says more than how they are declared
  let native = $derived(!counted && columns.some((one) => one.native));
  let commented = $derived(columns.some((one) => one.comment));
  const share = (one: SeenColumn) => (one.counts!.nulls + one.counts!.values ? one.counts!.nulls / (one.counts!.nulls + one.counts!.values) : 0);
</script>

<div class="overflow-x-auto">
  <table class="table-sm table">
    <thead>
      <tr>
        <th>Column</th><th>Type</th>
        {#if native}<th>Native</th><th>Key</th>{#if commented}<th>Comment</th>{/if}{:else if !counted}<th class="num">Empty</th><th>Evidence</th>{/if}
        {#if counted}<th class="num">Empty</th><th class="num">Distinct</th><th>Spread</th><th>Smallest … largest</th><th>Most frequent</th>{/if}
      </tr>
    </thead>
    <tbody>
      {#each columns as one, index (index)}
        <tr>
          <td class="min-w-32 font-semibold [overflow-wrap:anywhere]">{#if object}<a class="plain" href={mapPage(object, one.name)} title="where it comes from, and what is made of it">{one.name}</a>{:else}{one.name}{/if}</td>
          <td class="whitespace-nowrap">{one.type || "—"}</td>
          {#if native}
            <td class="whitespace-nowrap">{one.native}</td>
            <td>{one.key ? "key" : one.nullable ? "" : "not null"}</td>
            {#if commented}<td class="min-w-32">{one.comment ?? ""}</td>{/if}
          {:else if !counted}
            <td class="num">{count(one.nulls)}</td>
            <td class="text-base-content/80">{one.evidence}</td>
          {/if}
          {#if counted && one.counts}
            <td class="num" title="{count(one.counts.nulls)} of {count(one.counts.nulls + one.counts.values)}">{one.counts.nulls ? `${(100 * share(one)).toFixed(share(one) < 0.01 ? 2 : 0)} %` : "0"}</td>
            <td class="num">{one.counts.distinct === null ? "many" : count(one.counts.distinct)}</td>
            <td>{#if one.counts.bins}<Spread bins={one.counts.bins} name={one.name} />{:else if one.counts.longest !== null}<span class="text-base-content/75 text-xs whitespace-nowrap">{one.counts.shortest}–{one.counts.longest} characters</span>{/if}</td>
            <td class="max-w-56 truncate" title="{one.counts.low} … {one.counts.high}">{one.counts.low === null ? "" : `${one.counts.low} … ${one.counts.high}`}</td>
            <td class="min-w-40">
              {#each one.counts.top.slice(0, 3) as top, at (at)}
                <span class="mr-3 inline-block max-w-40 truncate align-bottom" title="{top.value}: {count(top.count)} times">{top.value} <span class="text-base-content/75">×{count(top.count)}</span></span>
              {/each}
            </td>
          {/if}
        </tr>
      {/each}
    </tbody>
  </table>
</div>
