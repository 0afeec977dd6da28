<script lang="ts">
  /** What a stream did, minute by minute: bars of what was inserted, updated and deleted, and its lag; the same stands in a table. */
  import { clock, count } from "../lib/format";
  import type { StreamMinute } from "../lib/types";

  let { minutes }: { minutes: StreamMinute[] } = $props();
  const SHOWN = 60;
  const PARTS = [
    ["inserted", "bg-success"],
    ["updated", "bg-info"],
    ["deleted", "bg-warning"],
    ["rejected", "bg-error"],
  ] as const;
  let last = $derived(Math.floor(Date.now() / 60_000) * 60_000 + minutes.length * 0);
  let bars = $derived.by(() => {
    const known = new Map(minutes.map((one) => [Date.parse(one.minute), one]));
    return Array.from({ length: SHOWN }, (_, place) => {
      const at = last - (SHOWN - 1 - place) * 60_000;
      return { at, line: known.get(at) };
    });
  });
  const written = (one: StreamMinute) => one.inserted + one.updated + one.deleted + one.rejected;
  let most = $derived(Math.max(1, ...minutes.map(written)));
  let longest = $derived(Math.max(1, ...minutes.map((one) => one.lag)));
  const hour = (at: number) => clock(new Date(at).toISOString()).slice(0, 5);
</script>

{#if !minutes.length}
  <p class="px-3.5 py-2">Nothing has changed in the source within the last hour.</p>
{:else}
  <div class="px-3.5 py-2" data-testid="minutes">
    <div class="text-base-content/75 mb-1 flex flex-wrap gap-x-4 text-xs">
      {#each PARTS as [part, colour] (part)}<span class="inline-flex items-center gap-1"><span class="inline-block size-2.5 rounded-sm {colour}"></span>{part}</span>{/each}
      <span class="ml-auto">up to {count(most)} rows a minute</span>
    </div>
    <div class="border-base-300 flex h-28 items-end gap-px border-b" role="img" aria-label="Rows written in each of the last 60 minutes: see the table">
      {#each bars as bar (bar.at)}
        <div class="flex h-full min-w-0 flex-1 flex-col justify-end" title={bar.line ? `${hour(bar.at)}: ${PARTS.map(([part]) => `${count(bar.line![part])} ${part}`).join(", ")}` : hour(bar.at)}>
          {#each PARTS as [part, colour] (part)}
            {#if bar.line && bar.line[part]}<span class="block w-full {colour}" style="height: {Math.max(2, (bar.line[part] / most) * 100)}%"></span>{/if}
          {/each}
        </div>
      {/each}
    </div>
    <div class="border-base-300 mt-2 flex h-10 items-end gap-px border-b" role="img" aria-label="The longest lag in each of these minutes: see the table">
      {#each bars as bar (bar.at)}
        <div class="flex h-full min-w-0 flex-1 items-end">{#if bar.line}<span class="bg-primary block w-full" style="height: {Math.max(4, (bar.line.lag / longest) * 100)}%" title="{hour(bar.at)}: {bar.line.lag.toFixed(1)} s lag"></span>{/if}</div>
      {/each}
    </div>
    <div class="text-base-content/75 flex justify-between text-xs"><span>{hour(bars[0]!.at)}</span><span>lag: up to {longest.toFixed(1)} s</span><span>{hour(last)}</span></div>
    <details class="mt-1 text-xs">
      <summary class="cursor-pointer">as a table</summary>
      <div class="max-h-60 overflow-auto">
        <table class="table-xs table">
          <thead><tr><th>Minute</th><th class="num">Changes</th><th class="num">Inserted</th><th class="num">Updated</th><th class="num">Deleted</th><th class="num">Rejected</th><th class="num">Longest lag</th></tr></thead>
          <tbody>
            {#each [...minutes].reverse() as one (one.minute)}
              <tr><td>{clock(one.minute).slice(0, 5)}</td><td class="num">{count(one.changes)}</td><td class="num">{count(one.inserted)}</td><td class="num">{count(one.updated)}</td><td class="num">{count(one.deleted)}</td><td class="num">{count(one.rejected)}</td><td class="num">{one.lag.toFixed(1)} s</td></tr>
            {/each}
          </tbody>
        </table>
      </div>
    </details>
  </div>
{/if}
