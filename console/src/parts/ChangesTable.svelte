<script lang="ts">
  import { get, problemOf } from "../lib/api";
  import { count } from "../lib/format";
  import type { Change, Page, ProblemBody } from "../lib/types";
  import Problem from "./Problem.svelte";

  let { run, leg, comparison }: { run: number; leg?: number; comparison: Record<string, number> | null } = $props();
  const KINDS: Record<string, string> = {
    updated: "rows of the target, before and after",
    added: "rows with keys that were not there before",
    gone: "rows whose keys are no longer there",
    repeated: "rows that were dropped, next to the one of their key that was kept",
  };
  let kind = $state("");
  let pages = $state<Record<string, Page<Change>>>({});
  let problem = $state<ProblemBody | null>(null);
  // by its value: the page takes its run anew when it ends, which must not undo a choice made here
  let asked = $derived(`runs/${run}/changes?page_size=50${leg ? `&leg=${leg}` : ""}`);

  $effect(() => {
    const path = asked;
    void (async () => {
      try {
        const found = await Promise.all(Object.keys(KINDS).map((one) => get<Page<Change>>(`${path}&kind=${one}`)));
        pages = Object.fromEntries(Object.keys(KINDS).flatMap((one, at) => (found[at]?.total ? [[one, found[at]]] : [])));
        kind = Object.keys(pages)[0] ?? "";
      } catch (error) {
        problem = problemOf(error);
      }
    })();
  });
  let shown = $derived(pages[kind]?.items ?? []);
  let columns = $derived(shown[0]?.columns ?? []);
  function differs(change: Change, at: number): boolean {
    return !!change.before && !!change.after && change.before[at] !== change.after[at];
  }
</script>

{#if problem}<div class="mb-3"><Problem {problem} /></div>{/if}
{#if kind || comparison}
  <section class="panel mb-4" data-testid="changes">
    <h2 class="flex flex-wrap items-center gap-x-3 gap-y-1">
      Changes
      {#each Object.keys(pages) as one (one)}
        <button class="btn btn-xs {one === kind ? 'btn-primary' : ''}" aria-pressed={one === kind} onclick={() => (kind = one)}>{one}</button>
      {/each}
      {#if comparison}
        <span class="ml-auto font-normal tabular-nums">
          by key, against the rows before: {["added", "gone", "changed", "equal"].map((name) => `${count(comparison[name])} ${name}`).join(" · ")}
        </span>
      {:else if kind}
        <span class="text-base-content/75 ml-auto font-normal">{KINDS[kind]}{pages[kind] ? `: ${count(shown.length)} of ${count(pages[kind]?.total)} kept` : ""}</span>
      {/if}
    </h2>
    {#if kind}
      <div class="max-h-96 overflow-auto">
        <table class="table-xs table">
          <thead class="bg-base-100 sticky top-0"><tr>{#each columns as name (name)}<th>{name}</th>{/each}</tr></thead>
          <tbody>
            {#each shown as change, index (index)}
              <tr>
                {#each columns as name, at (name)}
                  <td class="max-w-60 font-mono align-top">
                    {#if differs(change, at)}
                      <del class="text-error block truncate no-underline" title={change.before?.[at] ?? "NULL"}>− {change.before?.[at] ?? "NULL"}</del>
                      <ins class="text-success block truncate no-underline" title={change.after?.[at] ?? "NULL"}>+ {change.after?.[at] ?? "NULL"}</ins>
                    {:else}
                      <span class="text-base-content/75 block truncate">{(change.after ?? change.before)?.[at] ?? "NULL"}</span>
                    {/if}
                  </td>
                {/each}
              </tr>
            {/each}
          </tbody>
        </table>
      </div>
    {/if}
  </section>
{/if}
