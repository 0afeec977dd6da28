<script lang="ts">
  import { onMount } from "svelte";
  import { get, problemOf } from "../lib/api";
  import { count, lagOf, moment } from "../lib/format";
  import type { Page, ProblemBody, StreamLine } from "../lib/types";
  import Problem from "../parts/Problem.svelte";
  import State from "../parts/State.svelte";

  let streams = $state<StreamLine[] | null>(null);
  let problem = $state<ProblemBody | null>(null);
  async function load() {
    try {
      streams = (await get<Page<StreamLine>>("streams?page_size=200")).items;
      problem = null;
    } catch (error) {
      problem = problemOf(error);
    }
  }
  onMount(() => {
    void load();
    const timer = setInterval(load, 2000);
    return () => clearInterval(timer);
  });
  const changes = (stream: StreamLine) => stream.tables.reduce((sum, table) => sum + table.changes, 0);
</script>

<h1 class="mb-3 text-lg font-semibold">Streams</h1>
{#if problem}<Problem {problem} />{/if}
{#if streams && !streams.length}
  <p class="panel px-4 py-6">
    No job follows a log yet. In a job file: <code>from: &#123;connection: reservations, tables: [booking, guest], newer: log&#125;</code>; then start its stream on the job's page.
  </p>
{:else if streams}
  <div class="panel overflow-x-auto">
    <table class="table-sm table">
      <thead><tr><th>Stream</th><th>State</th><th class="num">Lag</th><th class="num">Changes</th><th class="num">Tables</th><th>From → into</th></tr></thead>
      <tbody>
        {#each streams as stream (stream.job)}
          <tr>
            <td class="font-semibold whitespace-nowrap"><a class="plain" href="#/streams/{stream.job}">{stream.job}</a></td>
            <td class="whitespace-nowrap"><State name={stream.state} /><div class="text-base-content/70 text-xs">since {moment(stream.since)}</div></td>
            <td class="num">{lagOf(stream)}</td>
            <td class="num">{count(changes(stream))}</td>
            <td class="num">{count(stream.tables.length)}</td>
            <td class="min-w-40 break-words">
              {stream.source} → {stream.target}
              {#if stream.error}<div class="text-error text-xs">{stream.error.detail}</div>{/if}
            </td>
          </tr>
        {/each}
      </tbody>
    </table>
  </div>
{/if}
