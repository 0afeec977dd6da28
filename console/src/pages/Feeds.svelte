<script lang="ts">
  import { count } from "../lib/format";
  import { load } from "../lib/load.svelte";
  import type { FeedLine, Page } from "../lib/types";
  import FeedStates from "../parts/FeedStates.svelte";
  import Head from "../parts/Head.svelte";
  import Loaded from "../parts/Loaded.svelte";

  const feeds = load<Page<FeedLine>>(() => "feeds?page_size=200");
</script>

<Head title="Feeds" under="files of one kind from many providers, each in its own form" />
<Loaded of={feeds}>
  {#snippet children(page)}
    {#if page.items.length}
      <div class="panel overflow-x-auto">
        <table class="table-sm table">
          <thead><tr><th>Name</th><th>From</th><th class="num">Providers</th><th>Files</th><th>Expected</th><th>About</th></tr></thead>
          <tbody>
            {#each page.items as feed (feed.name)}
              <tr>
                <td class="min-w-36 font-semibold [overflow-wrap:anywhere]"><a class="plain" href="/feeds/{feed.name}">{feed.name}</a></td>
                <td class="[overflow-wrap:anywhere]">{feed.connection}</td>
                <td class="num">{count(feed.providers.length)}</td>
                <td><FeedStates files={feed.files} /></td>
                <td class="whitespace-nowrap">{feed.expected || "—"}</td>
                <td class="min-w-48">{feed.about}</td>
              </tr>
            {/each}
          </tbody>
        </table>
      </div>
    {:else}
      <p class="panel px-4 py-6">No feeds yet: a feed file lists providers, each with versions of its files; <code>ultravect save feed.yaml</code> stores it. <a class="plain" href="/docs/guide/">The guide has one</a></p>
    {/if}
  {/snippet}
</Loaded>
