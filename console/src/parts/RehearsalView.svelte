<script lang="ts">
  import type { Rehearsal } from "../lib/types";
  let { rehearsal }: { rehearsal: Rehearsal } = $props();
  let chosen = $state(0);
  let row = $derived(rehearsal.rows[Math.min(chosen, rehearsal.rows.length - 1)]);
  const count = (value: number) => value.toLocaleString("en");
</script>

<div class="px-3.5 py-1.5 text-sm">
  {#if rehearsal.would_fail}<p class="text-error">✗ A run would fail: {rehearsal.would_fail}</p>{/if}
  <ol class="flex flex-wrap gap-x-4">
    {#each rehearsal.steps as step (step.step)}
      <li><span class="font-semibold">{step.step}</span> {count(step.rows_in)} → {count(step.rows_out)}{step.rejected ? `, ${count(step.rejected)} rejected` : ""}</li>
    {/each}
  </ol>
</div>
{#if row}
  <div class="border-base-300 flex items-center gap-1 border-t px-3.5 py-1.5 text-sm">
    <span class="mr-1">Row</span>
    {#each rehearsal.rows as one, index (one.row)}
      <button class="btn btn-xs {one === row ? 'btn-primary' : ''}" aria-pressed={one === row} onclick={() => (chosen = index)}>{count(one.row)}</button>
    {/each}
  </div>
  <div class="max-h-72 overflow-auto">
    <table class="table-xs table">
      <thead class="bg-base-100 sticky top-0"><tr><th>Column</th><th>Before</th><th>After</th><th>Target name</th><th>In the target</th></tr></thead>
      <tbody>
        {#each rehearsal.target_columns as column, at (column.name)}
          {@const source = rehearsal.source_columns.indexOf(column.source)}
          <tr>
            <td>{column.source || "computed"}</td>
            <td class="max-w-36 overflow-hidden font-mono text-ellipsis whitespace-pre">{source >= 0 ? (row.before[source] ?? "NULL") : ""}</td>
            <td class="max-w-36 overflow-hidden font-mono text-ellipsis whitespace-pre" title={row.after[at]}>{row.after[at] ?? "NULL"}</td>
            <td>{column.name}</td>
            <td class="font-mono">{column.native}</td>
          </tr>
        {/each}
      </tbody>
    </table>
  </div>
{/if}
{#if rehearsal.rejects.length}
  <ul class="border-base-300 border-t px-3.5 py-1.5 text-sm">
    {#each rehearsal.rejects as reject, index (index)}
      <li><span class="text-error">✗</span> row {count(reject.row)}{reject.column ? `, ${reject.column}` : ""}{reject.value !== null ? ` ${JSON.stringify(reject.value)}` : ""}: {reject.reason}</li>
    {/each}
  </ul>
{/if}
