<script lang="ts">
  import { get, problemOf } from "../lib/api";
  import type { ProblemBody, RunDifferences } from "../lib/types";
  import Problem from "./Problem.svelte";

  /** How a run differs from the one before of its job; asked for when it is opened. */
  let { number }: { number: number } = $props();
  let found = $state<RunDifferences | null>(null);
  let problem = $state<ProblemBody | null>(null);

  async function opened(event: Event) {
    if (!(event.currentTarget as HTMLDetailsElement).open || found) return;
    try {
      found = await get<RunDifferences>(`runs/${number}/differences`);
      problem = null;
    } catch (error) {
      problem = problemOf(error);
    }
  }
</script>

<details class="panel mb-4" ontoggle={opened}>
  <summary class="cursor-pointer px-3.5 py-2 font-semibold">Compared with the run before</summary>
  {#if problem}<div class="px-3.5 pb-3"><Problem {problem} /></div>{/if}
  {#if found}
    <div class="overflow-x-auto">
      <table class="table-sm table">
        <thead><tr><th>Part</th><th>What</th><th><a class="plain" href="/runs/{found.before.id}">Run {found.before.id}</a></th><th>Run {found.after.id}</th></tr></thead>
        <tbody>
          {#each found.items as item (item.part + item.leg + item.name)}
            <tr>
              <td class="text-base-content/75">{item.part}</td>
              <td>{#if item.leg}<span class="text-base-content/75">{item.leg}: </span>{/if}{item.name}</td>
              <td class="max-w-80 min-w-24 break-words">{item.before || "–"}</td>
              <td class="max-w-80 min-w-24 break-words">{item.after || "–"}</td>
            </tr>
          {/each}
        </tbody>
      </table>
    </div>
    {#if found.file.length}
      <pre class="border-base-300 overflow-x-auto border-t px-3.5 py-2 text-sm">{#each found.file as line, place (place)}<span class={line.startsWith("+") ? "text-success" : line.startsWith("-") ? "text-error" : "text-base-content/75"}>{line}
</span>{/each}</pre>
    {/if}
  {/if}
</details>
