<script lang="ts">
  import { clock, count } from "../lib/format";
  import { chosen, LEVELS, type LogLine } from "../lib/log";
  import type { Leg } from "../lib/types";
  import Rows from "./Rows.svelte";

  /** What a run said, searched and by level; `changed` is another number whenever there are new lines. */
  let { lines, changed, legs, leg, live }: { lines: readonly LogLine[]; changed: number; legs: Leg[]; leg: number; live: boolean } = $props();
  const LOOKS: Record<string, string> = { error: "text-error", warning: "text-warning" };
  let search = $state("");
  let levels = $state<string[]>([]);
  let at = $state(-1);
  let shown = $derived.by(() => {
    void changed;
    return chosen(lines, new Set(levels), search, leg);
  });
  let counts = $derived.by(() => {
    void changed;
    const found = new Map<string, number>();
    for (const line of lines) found.set(line.level, (found.get(line.level) ?? 0) + 1);
    return found;
  });
  let picked = $derived(shown[at]);
  const objectOf = (number: number | null) => legs.find((one) => one.number === number)?.object ?? "";
</script>

<section class="panel min-w-0" data-testid="log">
  <h2 class="flex flex-wrap items-center gap-x-3 gap-y-1">
    Log
    {#each LEVELS.filter((level) => counts.get(level)) as level (level)}
      <button class="cursor-pointer text-sm font-normal {LOOKS[level] ?? ''} {levels.includes(level) ? 'underline' : ''}" aria-pressed={levels.includes(level)} onclick={() => (levels = levels.includes(level) ? levels.filter((one) => one !== level) : [...levels, level])}>{level} {count(counts.get(level))}</button>
    {/each}
    <input class="input input-xs ml-auto w-40 font-normal" type="search" placeholder="search" aria-label="search the log" bind:value={search} />
  </h2>
  <Rows items={shown} columns={3} height={24} at={live && at < 0 ? shown.length - 1 : at} tall="20rem" label="What was said" empty={lines.length ? "No line is like that." : "Nothing said yet."}>
    {#snippet head()}<tr class="sr-only"><th>At</th><th>Level</th><th>What was said</th></tr>{/snippet}
    {#snippet row(line, place)}
      <tr class="h-6 {place === at ? 'bg-base-200' : ''}">
        <td class="text-base-content/75 py-0 tabular-nums">{clock(line.at)}</td>
        <td class="py-0 {LOOKS[line.level] ?? 'text-base-content/75'}">{line.level}</td>
        <td class="max-w-0 w-full py-0"><button class="block w-full cursor-pointer truncate text-left" title={line.text} onclick={() => (at = place === at ? -1 : place)}>{#if objectOf(line.leg) && !leg}<span class="text-base-content/75">{objectOf(line.leg)}: </span>{/if}{line.text}{#if line.fix}<span class="text-base-content/75"> — {line.fix}</span>{/if}</button></td>
      </tr>
    {/snippet}
  </Rows>
  {#if picked}
    <div class="border-base-300 border-t px-3.5 py-2 [overflow-wrap:anywhere]" data-testid="log-line">{picked.text}{#if picked.fix}<p><b class="font-semibold">Fix:</b> {picked.fix}</p>{/if}</div>
  {/if}
</section>
