<script lang="ts">
  import { count } from "../lib/format";
  import type { SeenColumn } from "../lib/types";
  let { columns }: { columns: SeenColumn[] } = $props();
  let counted = $derived(columns.some((one) => one.counts));
  let native = $derived(columns.some((one) => one.native));
</script>

<div class="overflow-x-auto">
  <table class="table-sm table">
    <thead>
      <tr>
        <th>Column</th><th>Type</th>
        {#if native}<th>Native</th><th></th><th>Comment</th>{:else}<th class="text-right">Empty</th><th>Evidence</th>{/if}
        {#if counted}<th class="text-right">NULL</th><th class="text-right">Distinct</th><th>Smallest … largest</th><th>Lengths</th><th>Commonest</th>{/if}
      </tr>
    </thead>
    <tbody>
      {#each columns as one, index (index)}
        <tr>
          <td class="font-semibold">{one.name}</td>
          <td class="whitespace-nowrap">{one.type || "—"}</td>
          {#if native}
            <td class="whitespace-nowrap">{one.native}</td>
            <td>{one.key ? "key" : one.nullable ? "NULL" : ""}</td>
            <td>{one.comment ?? ""}</td>
          {:else}
            <td class="num">{count(one.nulls)}</td>
            <td class="text-base-content/80">{one.evidence}</td>
          {/if}
          {#if counted && one.counts}
            <td class="num">{count(one.counts.nulls)}</td>
            <td class="num">{one.counts.distinct === null ? "many" : count(one.counts.distinct)}</td>
            <td>{one.counts.low === null ? "" : `${one.counts.low} … ${one.counts.high}`}</td>
            <td class="whitespace-nowrap">{one.counts.longest === null ? "" : `${one.counts.shortest}–${one.counts.longest}`}</td>
            <td>
              {#each one.counts.top.slice(0, 3) as top, at (at)}
                <span class="mr-3 whitespace-nowrap">{top.value} <span class="text-base-content/60">×{count(top.count)}</span></span>
              {/each}
            </td>
          {/if}
        </tr>
      {/each}
    </tbody>
  </table>
</div>
