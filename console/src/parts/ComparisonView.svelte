<script lang="ts">
  import { count } from "../lib/format";
  import type { Comparison } from "../lib/types";
  import Findings from "./Findings.svelte";

  /** Which rows differ between a job's source and its target, column by column. */
  let { comparison }: { comparison: Comparison } = $props();
  const PLACES: Record<string, string> = { source: "only in the source", target: "only in the target", both: "different" };
  let counts = $derived(
    [
      { count: comparison.only_source, word: PLACES.source },
      { count: comparison.only_target, word: PLACES.target },
      { count: comparison.different, word: PLACES.both },
      { count: comparison.rejected, word: "rejected, since they do not fit into the target" },
    ].filter((one) => one.count),
  );
  const shown = (value: string | null | undefined) => value ?? "NULL";
</script>

<div class="px-3.5 py-1.5 text-sm">
  <p>
    {count(comparison.rows_source)} rows in the source, {count(comparison.rows_target)} in the target, compared
    {comparison.keys.length ? `by ${comparison.keys.join(", ")}` : "by whole rows"}
  </p>
  {#if counts.length}
    <p>{comparison.complete ? "" : "At least: "}{counts.map((one) => `${count(one.count)} ${one.word}`).join(", ")}</p>
  {/if}
</div>
{#if comparison.findings.length}<Findings findings={comparison.findings} />{/if}
{#if comparison.differences.length}
  <div class="border-base-300 max-h-96 overflow-auto border-t">
    <table class="table-xs table">
      <thead class="bg-base-100 sticky top-0">
        <tr>{#each comparison.keys as key (key)}<th>{key}</th>{/each}<th>Row</th><th>Column</th><th>Source</th><th>Target</th></tr>
      </thead>
      <tbody>
        {#each comparison.differences.slice(0, 200) as row, index (index)}
          {#each Object.entries(row.values) as [name, value], at (name)}
            <tr>
              {#each comparison.keys as key (key)}<td class="font-mono">{at ? "" : shown(row.keys[key])}</td>{/each}
              <td class="whitespace-nowrap">{at ? "" : PLACES[row.where]}</td>
              <td>{name}</td>
              <td class="max-w-60 overflow-hidden font-mono text-ellipsis whitespace-pre" title={value.source}>{row.where === "target" ? "" : shown(value.source)}</td>
              <td class="max-w-60 overflow-hidden font-mono text-ellipsis whitespace-pre" title={value.target}>{row.where === "source" ? "" : shown(value.target)}</td>
            </tr>
          {:else}
            <tr>
              {#each comparison.keys as key (key)}<td class="font-mono">{shown(row.keys[key])}</td>{/each}
              <td class="whitespace-nowrap">{PLACES[row.where]}</td><td></td><td></td><td></td>
            </tr>
          {/each}
        {/each}
      </tbody>
    </table>
  </div>
  {#if comparison.differences.length > 200}
    <p class="border-base-300 border-t px-3.5 py-1.5 text-sm">The first 200; ultravect compare --json has up to 1,000.</p>
  {/if}
{/if}
