<script lang="ts">
  import { onMount } from "svelte";
  import { get, problemOf } from "../lib/api";
  import { count, follows, moment } from "../lib/format";
  import { may } from "../lib/session.svelte";
  import type { JobLine, Page, ProblemBody } from "../lib/types";
  import Problem from "../parts/Problem.svelte";
  import State from "../parts/State.svelte";

  let jobs = $state<JobLine[] | null>(null);
  let problem = $state<ProblemBody | null>(null);
  let search = $state("");
  let shown = $derived(
    (jobs ?? []).filter((job) => [job.name, job.about, ...job.labels].join(" ").toLowerCase().includes(search.toLowerCase())),
  );

  async function load() {
    try {
      jobs = (await get<Page<JobLine>>("jobs?page_size=200")).items;
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
</script>

<div class="mb-3 flex flex-wrap items-center gap-3">
  <h1 class="text-lg font-semibold">Jobs</h1>
  <input class="input input-sm ml-auto w-64 max-w-full" type="search" placeholder="name, text or label" aria-label="Find jobs" bind:value={search} />
  {#if may("editor")}<a class="btn btn-sm" href="#/new-job">New job</a>{/if}
</div>
{#if problem}<Problem {problem} />{/if}
{#if jobs && !jobs.length}
  <p class="panel px-4 py-6">
    No jobs yet. Write one here with <em>New job</em>, or save a file: <code>ultravect save job.yaml</code>
  </p>
{:else if jobs}
  <div class="panel overflow-x-auto">
    <table class="table-sm table">
      <thead>
        <tr><th>Job</th><th>From</th><th>Into</th><th>Last run</th><th class="num">Read</th><th class="num">Inserted</th><th class="num">Updated</th><th class="num">Rejected</th></tr>
      </thead>
      <tbody>
        {#each shown as job (job.name)}
          <tr class="align-top">
            <td class="min-w-64">
              <a class="plain font-semibold" href="#/jobs/{job.name}">{job.name}</a>
              {#each job.labels as label (label)}<span class="bg-base-200 ml-1.5 rounded px-1.5 py-0.5 text-xs">{label}</span>{/each}
              <div class="text-base-content/70 text-xs">{job.about}</div>
            </td>
            <td class="break-words">{job.source}</td>
            <td class="break-words">{job.target}</td>
            {#if job.stream !== null}
              <td class="whitespace-nowrap" colspan="5"><a href="#/streams/{job.name}" title="stream of {job.name}"><State name={job.stream} /></a><span class="text-base-content/70 ml-1.5">stream</span></td>
            {:else if job.last_run}
              <td class="whitespace-nowrap"><a href="#/runs/{job.last_run.id}" title="run {job.last_run.id}"><State name={job.last_run.state} /></a>{#if job.last_run.kind !== "load"}<span class="text-base-content/70 ml-1.5">{follows(job.last_run)}</span>{/if}<div class="text-base-content/70 text-xs">{moment(job.last_run.queued_at)}</div></td>
              <td class="num">{count(job.last_run.tally?.read)}</td>
              <td class="num">{count(job.last_run.tally?.inserted)}</td>
              <td class="num">{count(job.last_run.tally?.updated)}</td>
              <td class="num">{count(job.last_run.tally?.rejected)}</td>
            {:else}
              <td class="text-base-content/60">never run</td><td class="num">—</td><td class="num">—</td><td class="num">—</td><td class="num">—</td>
            {/if}
          </tr>
        {:else}
          <tr><td colspan="8">No job fits “{search}”.</td></tr>
        {/each}
      </tbody>
    </table>
  </div>
{/if}
