<script lang="ts">
  import { load } from "../lib/load.svelte";
  import { query } from "../lib/places";
  import { ask, route } from "../lib/router.svelte";
  import type { Page, RunLine } from "../lib/types";
  import Head from "../parts/Head.svelte";
  import Loaded from "../parts/Loaded.svelte";
  import RunsTable from "../parts/RunsTable.svelte";

  const STATES = ["queued", "running", "succeeded", "failed", "stopped"];
  let state = $derived(route.asked.state ?? "");
  let job = $derived(route.asked.job ?? "");
  let number = $derived(Number(route.asked.page ?? 1));
  const page = load<Page<RunLine>>(() => `runs${query({ page: number, state, job })}`, { every: 2000 });
</script>

<Head title="Runs">
  {#snippet actions()}
    {#if job}<span class="text-sm">of <a class="plain" href="/jobs/{job}">{job}</a> <button class="btn btn-xs btn-ghost" aria-label="Of all jobs" onclick={() => ask({ job: undefined, page: undefined })}>✕</button></span>{/if}
    <label class="text-sm" for="state">State</label>
    <select id="state" class="select select-sm w-36" value={state} onchange={(event) => ask({ state: event.currentTarget.value, page: undefined })}>
      <option value="">all</option>
      {#each STATES as name (name)}<option>{name}</option>{/each}
    </select>
  {/snippet}
</Head>
<Loaded of={page} lines={12}>
  {#snippet children(shown)}
    {#if shown.items.length}
      <div class="panel"><RunsTable runs={shown.items} /></div>
    {:else}
      <p class="panel px-4 py-6">{state || job ? "No run is like that." : "Nothing was run yet: open a job, and press Run."} <a class="plain" href="/jobs">See the jobs</a></p>
    {/if}
    {#if shown.pages > 1}
      <div class="mt-3 flex items-center gap-2">
        <button class="btn btn-sm" disabled={number <= 1} onclick={() => ask({ page: number - 1 })}>Newer</button>
        <span>page {shown.page} of {shown.pages}</span>
        <button class="btn btn-sm" disabled={number >= shown.pages} onclick={() => ask({ page: number + 1 })}>Older</button>
      </div>
    {/if}
  {/snippet}
</Loaded>
