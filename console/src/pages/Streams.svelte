<script lang="ts">
  import { count, lagOf, moment } from "../lib/format";
  import { load } from "../lib/load.svelte";
  import { streamPage } from "../lib/places";
  import type { Page, StreamLine } from "../lib/types";
  import Head from "../parts/Head.svelte";
  import Loaded from "../parts/Loaded.svelte";
  import State from "../parts/State.svelte";

  const streams = load<Page<StreamLine>>(() => "streams?page_size=200", { every: 2000 });
  const changes = (stream: StreamLine) => stream.tables.reduce((sum, table) => sum + table.changes, 0);
</script>

<Head title="Streams" under="jobs that follow the log of their source all the time" />
<Loaded of={streams}>
  {#snippet children(page)}
    {#if page.items.length}
      <div class="panel overflow-x-auto">
        <table class="table-sm table">
          <thead><tr><th>Stream</th><th>State</th><th class="num">Lag</th><th class="num">Changes</th><th class="num">Tables</th><th>From → into</th></tr></thead>
          <tbody>
            {#each page.items as stream (stream.job)}
              <tr>
                <td class="min-w-36 font-semibold [overflow-wrap:anywhere]"><a class="plain" href={streamPage(stream.job)}>{stream.job}</a></td>
                <td class="whitespace-nowrap"><State name={stream.state} /><div class="text-base-content/75 text-xs">since {moment(stream.since)}</div></td>
                <td class="num">{lagOf(stream)}</td>
                <td class="num">{count(changes(stream))}</td>
                <td class="num">{count(stream.tables.length)}</td>
                <td class="min-w-40 [overflow-wrap:anywhere]">
                  {stream.source} → {stream.target}
                  {#if stream.error}<div class="text-error text-xs">{stream.error.detail}</div>{/if}
                </td>
              </tr>
            {/each}
          </tbody>
        </table>
      </div>
    {:else}
      <p class="panel px-4 py-6">
        No job follows a log yet. In a job, set <em>newer</em> to <code>log</code> (under From, more keys); then start its stream on the job's page. <a class="plain" href="/docs/streams/">How streams work</a>
      </p>
    {/if}
  {/snippet}
</Loaded>
