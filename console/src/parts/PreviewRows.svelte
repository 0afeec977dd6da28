<script lang="ts">
  import type { Preview } from "../lib/types";
  let { preview, dim = false }: { preview: Preview; dim?: boolean } = $props();
  const MOST = 60;
  const NUMBERS = /^(smallint|integer|bigint|decimal|real|double)/;
  let columns = $derived(preview.columns.slice(0, MOST));
  // rows that are not whole stand where they were found, with their reason
  let bad = $derived(new Map((preview.bad_rows ?? []).map((one) => [one.row, one])));
  let lines = $derived.by(() => {
    const numbers = preview.row_numbers ?? preview.rows.map((_, index) => index + 1);
    const last = numbers.at(-1) ?? 0;
    const good = preview.rows.map((row, index) => ({ number: numbers[index] ?? index + 1, row, reason: "" }));
    const wrong = [...bad.values()].filter((one) => one.row < last + 2).map((one) => ({ number: one.row, row: [], reason: one.reason }));
    return [...good, ...wrong].sort((a, b) => a.number - b.number);
  });
  function whole(value: unknown): string {
    return typeof value === "object" && value !== null ? JSON.stringify(value) : String(value);
  }

  function shown(value: unknown): string {
    const text = whole(value);
    return text.length > 80 ? `${text.slice(0, 79)}…` : text;
  }
</script>

<table class="table-xs table {dim ? 'opacity-60' : ''}">
  <thead class="bg-base-100 sticky top-0">
    <tr>
      <th class="text-base-content/75 w-px">row</th>
      {#each columns as column, index (index)}
        <th class={NUMBERS.test(column.type) ? "text-right" : ""}>
          <span class="block">{column.name}</span>
          <span class="text-base-content/75 block font-normal" title={column.evidence ?? column.native}>{column.type || column.native}</span>
        </th>
      {/each}
      {#if preview.columns.length > MOST}<th>… {preview.columns.length - MOST} more columns</th>{/if}
    </tr>
  </thead>
  <tbody>
    {#each lines as line, index (index)}
      {#if line.reason}
        <tr class="bg-error/10">
          <td class="num text-error">✗ {line.number}</td>
          <td colspan={columns.length + 1}>not whole: {line.reason}</td>
        </tr>
      {:else}
        <tr>
          <td class="num text-base-content/75">{line.number}</td>
          {#each columns as column, at (at)}
            <td class="{NUMBERS.test(column.type) ? 'num' : 'whitespace-pre'} max-w-80 overflow-hidden font-mono text-ellipsis" title={whole(line.row[at]).length > 40 ? whole(line.row[at]).slice(0, 2000) : undefined}>
              {#if line.row[at] === null || line.row[at] === undefined}<span class="text-base-content/75">NULL</span>
              {:else}{shown(line.row[at])}{/if}
            </td>
          {/each}
        </tr>
      {/if}
    {:else}
      <tr><td colspan={columns.length + 1}>No rows.</td></tr>
    {/each}
  </tbody>
</table>
