<script lang="ts">
  import { onMount } from "svelte";
  import { exchange, get, problemOf } from "../lib/api";
  import { moment } from "../lib/format";
  import { may } from "../lib/session.svelte";
  import type { Page, ProblemBody, SavedLayout } from "../lib/types";
  import Problem from "../parts/Problem.svelte";

  let layouts = $state<SavedLayout[] | null>(null);
  let problem = $state<ProblemBody | null>(null);

  async function load() {
    try {
      layouts = (await get<Page<SavedLayout>>("layouts?page_size=200")).items;
    } catch (error) {
      problem = problemOf(error);
    }
  }
  onMount(load);
  async function remove(name: string) {
    if (!confirm(`Remove layout ${name}?`)) return;
    problem = null;
    try {
      await exchange("DELETE", `layouts/${encodeURIComponent(name)}`);
    } catch (error) {
      problem = problemOf(error);
    }
    await load();
  }
</script>

<h1 class="mb-3 text-lg font-semibold">Layouts</h1>
{#if problem}<div class="mb-3"><Problem {problem} /></div>{/if}
{#if layouts}
  <div class="panel overflow-x-auto">
    <table class="table-sm table">
      <thead><tr><th>Name</th><th>Format</th><th class="text-right">Version</th><th>Saved</th><th>File</th><th></th></tr></thead>
      <tbody>
        {#each layouts as one (one.name)}
          <tr>
            <td class="font-semibold whitespace-nowrap">{one.name}</td>
            <td>{one.format}</td>
            <td class="num">{one.version}</td>
            <td class="whitespace-nowrap">{moment(one.saved_at)}</td>
            <td class="w-full">
              {one.about}
              <details><summary class="cursor-pointer">show</summary><pre class="mt-1 text-xs">{one.file}</pre></details>
            </td>
            <td>{#if may("editor")}<button class="btn btn-xs btn-ghost" onclick={() => remove(one.name)}>Remove</button>{/if}</td>
          </tr>
        {:else}
          <tr><td colspan="6">No layouts yet: look at a file, edit its layout until the rows are right, and save it.</td></tr>
        {/each}
      </tbody>
    </table>
  </div>
{/if}
