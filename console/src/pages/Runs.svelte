<script lang="ts">
  import { onMount } from "svelte";
  import { get, problemOf } from "../lib/api";
  import type { Page, ProblemBody, RunLine } from "../lib/types";
  import Problem from "../parts/Problem.svelte";
  import RunsTable from "../parts/RunsTable.svelte";

  let page = $state<Page<RunLine> | null>(null);
  let number = $state(1);
  let wanted = $state("");
  let problem = $state<ProblemBody | null>(null);

  async function load() {
    try {
      page = await get<Page<RunLine>>(`runs?page=${number}${wanted ? `&state=${wanted}` : ""}`);
      problem = null;
    } catch (error) {
      problem = problemOf(error);
    }
  }
  $effect(() => {
    void [number, wanted];
    void load();
  });
  onMount(() => {
    const timer = setInterval(load, 2000);
    return () => clearInterval(timer);
  });
</script>

<div class="mb-3 flex items-center gap-3">
  <h1 class="text-lg font-semibold">Runs</h1>
  <label class="ml-auto text-sm" for="state">State</label>
  <select id="state" class="select select-sm w-36" bind:value={wanted} onchange={() => (number = 1)}>
    <option value="">all</option>
    {#each ["queued", "running", "succeeded", "failed", "stopped"] as name (name)}<option>{name}</option>{/each}
  </select>
</div>
{#if problem}<Problem {problem} />{/if}
{#if page}
  <div class="panel"><RunsTable runs={page.items} /></div>
  {#if page.pages > 1}
    <div class="mt-3 flex items-center gap-2">
      <button class="btn btn-sm" disabled={number <= 1} onclick={() => number--}>Newer</button>
      <span>page {page.page} of {page.pages}</span>
      <button class="btn btn-sm" disabled={number >= page.pages} onclick={() => number++}>Older</button>
    </div>
  {/if}
{/if}
