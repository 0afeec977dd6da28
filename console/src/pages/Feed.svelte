<script lang="ts">
  import { post } from "../lib/api";
  import { bytes, count, moment } from "../lib/format";
  import { Doing, load } from "../lib/load.svelte";
  import { query } from "../lib/places";
  import { ask, route } from "../lib/router.svelte";
  import { may } from "../lib/session.svelte";
  import type { FeedDays, FeedEntry, FeedLine, Page } from "../lib/types";
  import FeedStates from "../parts/FeedStates.svelte";
  import Head from "../parts/Head.svelte";
  import JobFile from "../parts/JobFile.svelte";
  import Loaded from "../parts/Loaded.svelte";
  import Problem from "../parts/Problem.svelte";
  import State from "../parts/State.svelte";

  let { name }: { name: string } = $props();
  const STATES = ["found", "loaded", "failed", "unmatched", "disputed"];
  let path = $derived(`feeds/${encodeURIComponent(name)}`);

  const loaded = load<FeedLine>(() => path);
  let feed = $derived(loaded.data);
  const days = load<FeedDays>(() => `${path}/days?days=10`);
  let wanted = $derived(route.asked.state ?? "");
  let provider = $derived(route.asked.provider ?? "");
  const files = load<Page<FeedEntry>>(() => `${path}/files${query({ page_size: 100, state: wanted, provider })}`);
  const doing = new Doing();
  let drafted = $state("");
  async function draft(entry: FeedEntry) {
    const answer = await doing.do("draft", () => post<{ file: string }>(`${path}/draft`, { path: entry.path }));
    drafted = answer?.file ?? drafted;
  }
</script>

<Head title={name} under={feed ? `from ${feed.connection} · revision ${feed.revision}, saved ${moment(feed.saved_at)}${feed.expected ? ` · expected ${feed.expected}` : ""}` : ""} back={{ href: "/feeds", name: "Feeds" }} />
{#if feed?.about}<p class="mb-3">{feed.about}</p>{/if}
{#if doing.problem}<div class="mb-3"><Problem problem={doing.problem} /></div>{/if}
<Loaded of={loaded}>{#snippet children(feed)}
{#if days.data}
  <section class="panel mb-4" data-testid="days">
    <h2>Providers by days</h2>
    <div class="overflow-x-auto">
      <table class="table-sm table">
        <thead><tr><th>Provider</th>{#each days.data.days as day (day)}<th class="whitespace-nowrap">{day.slice(5)}</th>{/each}</tr></thead>
        <tbody>
          {#each days.data.providers as one (one.name)}
            <tr>
              <td class="font-semibold whitespace-nowrap">{one.name || "no provider"}</td>
              {#each one.days as cell (cell.day)}
                <td class={cell.missing ? "text-error whitespace-nowrap" : ""}>{#if cell.missing}✗ missing{:else}<FeedStates files={cell.files} short />{/if}</td>
              {/each}
            </tr>
          {/each}
        </tbody>
      </table>
    </div>
  </section>
{/if}
{#if drafted}
  <section class="panel mb-4" data-testid="drafted">
    <h2 class="flex">A version for the feed's file<button class="btn btn-xs ml-auto" onclick={() => (drafted = "")}>Close</button></h2>
    <pre class="overflow-auto px-3.5 py-2 text-xs">{drafted}</pre>
  </section>
{/if}
<section class="panel mb-4" data-testid="files">
  <h2 class="flex flex-wrap items-center gap-3">
    Files
    <select class="select select-xs ml-auto w-32 font-normal" aria-label="State" value={wanted} onchange={(event) => ask({ state: event.currentTarget.value })}>
      <option value="">all states</option>
      {#each STATES as state (state)}<option>{state}</option>{/each}
    </select>
    <select class="select select-xs w-36 font-normal" aria-label="Provider" value={provider} onchange={(event) => ask({ provider: event.currentTarget.value })}>
      <option value="">all providers</option>
      {#each feed.providers as one (one)}<option>{one}</option>{/each}
    </select>
  </h2>
  <div class="overflow-x-auto">
    <table class="table-sm table">
      <thead><tr><th>File</th><th>Provider</th><th class="num">Version</th><th>State</th><th class="num">Size</th><th>Changed</th><th class="num">Run</th><th class="num">Rows</th><th class="num">Rejected</th><th></th></tr></thead>
      <tbody>
        {#each files.data?.items ?? [] as entry (entry.path)}
          <tr>
            <td class="w-full min-w-64 [overflow-wrap:anywhere]">{entry.path}{#if entry.reason}<p class="text-base-content/75 text-sm">{entry.reason}</p>{/if}</td>
            <td>{entry.provider || "—"}</td>
            <td class="num">{entry.version || "—"}</td>
            <td><State name={entry.state} /></td>
            <td class="num">{bytes(entry.size)}</td>
            <td class="whitespace-nowrap">{moment(entry.modified_at ?? null)}</td>
            <td class="num">{#if entry.run}<a class="plain" href="/runs/{entry.run}">{entry.run}</a>{:else}—{/if}</td>
            <td class="num">{entry.run ? count(entry.rows) : "—"}</td>
            <td class="num">{entry.run ? count(entry.rejected) : "—"}</td>
            <td>{#if entry.state === "unmatched" && may("operator")}<button class="btn btn-xs whitespace-nowrap" onclick={() => draft(entry)}>Draft a version</button>{/if}</td>
          </tr>
        {:else}
          <tr><td colspan="10" class="text-base-content/75">No such files yet: they are entered when a job of the feed runs.</td></tr>
        {/each}
      </tbody>
    </table>
  </div>
</section>
<section class="panel min-w-0">
  <h2>Feed file</h2>
  <JobFile text={feed.file} readonly />
</section>
{/snippet}</Loaded>
