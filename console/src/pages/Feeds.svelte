<script lang="ts">
  import { onMount } from "svelte";
  import { get, problemOf } from "../lib/api";
  import { count } from "../lib/format";
  import type { FeedLine, Page, ProblemBody } from "../lib/types";
  import FeedStates from "../parts/FeedStates.svelte";
  import Problem from "../parts/Problem.svelte";

  let feeds = $state<FeedLine[] | null>(null);
  let problem = $state<ProblemBody | null>(null);
  onMount(async () => {
    try {
      feeds = (await get<Page<FeedLine>>("feeds?page_size=200")).items;
    } catch (error) {
      problem = problemOf(error);
    }
  });
</script>

<h1 class="mb-3 text-lg font-semibold">Feeds</h1>
{#if problem}<Problem {problem} />{/if}
{#if feeds}
  <div class="panel overflow-x-auto">
    <table class="table-sm table">
      <thead><tr><th>Name</th><th>From</th><th class="num">Providers</th><th>Files</th><th>Expected</th><th>About</th></tr></thead>
      <tbody>
        {#each feeds as feed (feed.name)}
          <tr>
            <td class="font-semibold whitespace-nowrap"><a class="plain" href="#/feeds/{feed.name}">{feed.name}</a></td>
            <td>{feed.connection}</td>
            <td class="num">{count(feed.providers.length)}</td>
            <td><FeedStates files={feed.files} /></td>
            <td class="whitespace-nowrap">{feed.expected || "—"}</td>
            <td class="min-w-48">{feed.about}</td>
          </tr>
        {:else}
          <tr><td colspan="6">No feeds yet: a feed file lists providers, each with versions of its files; <code>ultravect save feed.yaml</code> stores it.</td></tr>
        {/each}
      </tbody>
    </table>
  </div>
{/if}
