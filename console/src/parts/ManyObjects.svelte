<script lang="ts">
  import { get, problemOf } from "../lib/api";
  import { count } from "../lib/format";
  import { api } from "../lib/places";
  import type { ObjectPage, ProblemBody, StoredObject } from "../lib/types";
  import Problem from "./Problem.svelte";

  /** Tables to be ticked; `chosen` are their names, or the pattern of all that the filter shows. */
  let { connection, chosen = $bindable() }: { connection: string; chosen: string[] } = $props();
  const MOST = 2000;
  let items = $state<StoredObject[]>([]);
  let filter = $state("");
  let ticked = $state<Record<string, boolean>>({});
  let all = $state(false);
  let problem = $state<ProblemBody | null>(null);
  let shown = $derived(items.filter((one) => one.name.toLowerCase().includes(filter.toLowerCase())));
  let names = $derived(items.filter((one) => ticked[one.name]).map((one) => one.name));

  $effect(() => {
    if (!connection) return;
    void (async () => {
      try {
        items = (await get<ObjectPage>(api(connection, "/objects", { limit: MOST }))).items.filter((one) => one.kind !== "file");
        problem = null;
      } catch (error) {
        problem = problemOf(error);
      }
    })();
  });
  $effect(() => {
    chosen = all ? [filter ? `*${filter}*` : "*"] : names;
  });
  function tickShown(on: boolean) {
    for (const one of shown) ticked[one.name] = on;
  }
</script>

{#if problem}<Problem {problem} />{/if}
<div class="mb-1.5 flex flex-wrap items-center gap-2 text-sm">
  <input class="input input-sm w-56" placeholder="filter" aria-label="Filter objects" bind:value={filter} />
  <button type="button" class="btn btn-xs" onclick={() => tickShown(true)} disabled={all}>Tick these {count(shown.length)}</button>
  <button type="button" class="btn btn-xs" onclick={() => tickShown(false)} disabled={all}>Untick</button>
</div>
<label class="mb-1.5 flex items-center gap-1.5 text-sm"><input type="checkbox" class="checkbox checkbox-sm" bind:checked={all} /> all tables {filter ? "with this in their name" : "there are"}, now and later</label>
<ul class="border-base-300 max-h-64 overflow-auto rounded-sm border" aria-label="Objects">
  {#each shown as one (one.name)}
    <li>
      <label class="hover:bg-base-200 flex items-center gap-2 px-2 py-0.5">
        <input type="checkbox" class="checkbox checkbox-xs" disabled={all} checked={all ? one.kind !== "view" : !!ticked[one.name]} onchange={(event) => (ticked[one.name] = event.currentTarget.checked)} />
        <span class="min-w-0 [overflow-wrap:anywhere]">{one.name}</span>
        <span class="text-base-content/70 ml-auto text-sm whitespace-nowrap">{one.kind}{one.rows === null || one.rows === undefined ? "" : `, about ${count(one.rows)} rows`}</span>
      </label>
    </li>
  {:else}
    <li class="text-base-content/70 px-2 py-1">{connection ? "Nothing of that name." : "Choose a connection first."}</li>
  {/each}
</ul>
<p class="text-base-content/70 mt-1 text-sm">{all ? `The pattern ${chosen[0]}: also tables that are made later, no views` : `${count(names.length)} ticked, a leg each`}</p>
