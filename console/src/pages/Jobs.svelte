<script lang="ts">
  import { count, follows, moment } from "../lib/format";
  import { load } from "../lib/load.svelte";
  import { jobPage, query, streamPage } from "../lib/places";
  import { ask, route } from "../lib/router.svelte";
  import { may } from "../lib/session.svelte";
  import type { JobLine, Page } from "../lib/types";
  import Head from "../parts/Head.svelte";
  import Loaded from "../parts/Loaded.svelte";
  import PlaceName from "../parts/PlaceName.svelte";
  import State from "../parts/State.svelte";

  const ORDER = ["failed", "paused", "stopped", "running", "queued", "succeeded", "following"];
  let search = $derived(route.asked.search ?? "");
  let number = $derived(Number(route.asked.page ?? 1));
  const jobs = load<Page<JobLine>>(() => `jobs${query({ page_size: 100, page: number, search })}`, { every: 3000, rest: 200 });
  let wanted = $derived(route.asked.state ?? "");
  const stateOf = (job: JobLine) => job.stream ?? job.last_run?.state ?? "never run";
  let states = $derived.by(() => {
    const found = new Map<string, number>();
    for (const job of jobs.data?.items ?? []) found.set(stateOf(job), (found.get(stateOf(job)) ?? 0) + 1);
    return [...found].sort(([a], [b]) => (ORDER.indexOf(a) + 99) % 99 - ((ORDER.indexOf(b) + 99) % 99));
  });
</script>

<Head title="Jobs">
  {#snippet more()}
    {#each states as [name, number] (name)}
      <button class="cursor-pointer text-sm {wanted === name ? 'underline' : ''}" aria-pressed={wanted === name} onclick={() => ask({ state: wanted === name ? undefined : name })}
        ><State {name} /> {count(number)}</button
      >
    {/each}
  {/snippet}
  {#snippet actions()}
    <input class="input input-sm w-64 max-w-full" type="search" placeholder="name, text, place or label" aria-label="Find jobs" value={search} oninput={(event) => ask({ search: event.currentTarget.value, page: undefined })} />
    {#if may("editor")}<a class="btn btn-sm btn-primary" href="/new-job">New job</a>{/if}
  {/snippet}
</Head>
<Loaded of={jobs} lines={12}>
  {#snippet children(page)}
    {#if !page.items.length && !search}
      <div class="panel px-4 py-6">
        <p>No jobs yet. A job says what is copied, from where into what, and how.</p>
        {#if may("editor")}<p class="mt-2"><a class="btn btn-sm btn-primary" href="/new-job">Make the first one</a> or save a file: <code>ultravect save job.yaml</code></p>{/if}
      </div>
    {:else}
      {@const shown = page.items.filter((job) => !wanted || stateOf(job) === wanted)}
      <div class="panel overflow-x-auto">
        <table class="table-sm table">
          <thead>
            <tr><th>Job</th><th>From</th><th>Into</th><th>State</th><th>Last run</th><th class="num">Read</th><th class="num">Inserted</th><th class="num">Updated</th><th class="num">Rejected</th></tr>
          </thead>
          <tbody>
            {#each shown as job (job.name)}
              <tr>
                <td class="max-w-60 min-w-44">
                  <a class="plain font-semibold [overflow-wrap:anywhere]" href={jobPage(job.name)}>{job.name}</a>
                  {#each job.labels as label (label)}<a class="bg-base-200 ml-1.5 rounded px-1.5 py-0.5 text-xs" href="/jobs?search={label}">{label}</a>{/each}
                  <div class="text-base-content/75 truncate text-xs" title={job.about}>{job.about}</div>
                </td>
                <td class="min-w-32 break-words"><PlaceName name={job.source} /></td>
                <td class="min-w-32 break-words"><PlaceName name={job.target} /></td>
                {#if job.stream !== null}
                  <td class="whitespace-nowrap"><a href={streamPage(job.name)} title="stream of {job.name}"><State name={job.stream} /></a></td>
                  <td class="text-base-content/75" colspan="5">a stream</td>
                {:else if job.last_run}
                  <td class="whitespace-nowrap"><a href="/runs/{job.last_run.id}" title="run {job.last_run.id}"><State name={job.last_run.state} /></a></td>
                  <td class="text-base-content/75 text-xs whitespace-nowrap">{moment(job.last_run.queued_at).slice(0, 16)}{#if job.last_run.kind !== "load"}<div>{follows(job.last_run)}</div>{/if}</td>
                  <td class="num">{count(job.last_run.tally?.read)}</td>
                  <td class="num">{count(job.last_run.tally?.inserted)}</td>
                  <td class="num">{count(job.last_run.tally?.updated)}</td>
                  <td class="num {job.last_run.tally?.rejected ? 'text-error font-semibold' : ''}">{count(job.last_run.tally?.rejected)}</td>
                {:else}
                  <td class="text-base-content/75" colspan="6">never run</td>
                {/if}
              </tr>
            {:else}
              <tr><td colspan="9">No job is like that.</td></tr>
            {/each}
          </tbody>
        </table>
      </div>
      {#if page.pages > 1}
        <div class="mt-3 flex items-center gap-2">
          <button class="btn btn-sm" disabled={number <= 1} onclick={() => ask({ page: number - 1 })}>Before</button>
          <span>page {page.page} of {page.pages}, {count(page.total)} jobs</span>
          <button class="btn btn-sm" disabled={number >= page.pages} onclick={() => ask({ page: number + 1 })}>Next</button>
        </div>
      {/if}
    {/if}
  {/snippet}
</Loaded>
