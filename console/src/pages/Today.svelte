<script lang="ts">
  import { onMount } from "svelte";
  import { get, problemOf } from "../lib/api";
  import { count, lagOf, moment } from "../lib/format";
  import type { ProblemBody, Today } from "../lib/types";
  import Problem from "../parts/Problem.svelte";
  import State from "../parts/State.svelte";
  import TimeAxis from "../parts/TimeAxis.svelte";

  let today = $state<Today | null>(null);
  let problem = $state<ProblemBody | null>(null);
  async function load() {
    try {
      today = await get<Today>("today");
      problem = null;
    } catch (error) {
      problem = problemOf(error);
    }
  }
  onMount(() => {
    void load();
    const timer = setInterval(load, 5000);
    return () => clearInterval(timer);
  });
  const ENDED = ["failed", "paused"];
  let halted = $derived(today?.streams.filter((one) => ENDED.includes(one.state)) ?? []);
  let quiet = $derived(today !== null && !today.failed.length && !today.late.length && !today.waiting.length && !halted.length);
  let broken = $derived(new Set(today?.failed.flatMap((cause) => cause.jobs)).size);
  const jobsOf = (n: number) => `${count(n)} ${n === 1 ? "job" : "jobs"}`;
  let headline = $derived(
    quiet
      ? "Nothing failed that was not made good, and nothing is late."
      : [
          broken ? `${jobsOf(broken)} failed, by ${count(today?.failed.length)} ${today?.failed.length === 1 ? "cause" : "causes"}` : "",
          halted.length ? `${count(halted.length)} ${halted.length === 1 ? "stream" : "streams"} paused or failed` : "",
          today?.late.length ? `${jobsOf(today.late.length)} late` : "",
          today?.waiting.length ? `${jobsOf(new Set(today.waiting.map((one) => one.job)).size)} not run, for others have failed` : "",
        ]
          .filter(Boolean)
          .join("; "),
  );
</script>

<h1 class="mb-1 text-lg font-semibold">Today</h1>
{#if problem}<Problem {problem} />{/if}
{#if today}
  <p class="mb-4 {quiet ? '' : 'text-error font-semibold'}" role="status">{headline}</p>
  {#if !quiet}
    <section class="mb-5" aria-labelledby="wrong">
      <h2 id="wrong" class="mb-2 font-semibold">What to look at</h2>
      <div class="panel divide-base-300 divide-y">
        {#each today.failed as cause (cause.runs[0])}
          <div class="px-4 py-3">
            <State name="failed" />
            <code class="ml-2 text-xs">{cause.code}</code>
            <span class="text-base-content/70 ml-2 text-xs">{moment(cause.at)}</span>
            <p class="mt-1 break-words">{cause.detail}</p>
            {#if cause.hint}<p class="text-base-content/70 break-words">{cause.hint}</p>{/if}
            <p class="mt-1 text-xs">
              {#each cause.jobs as job (job)}<a class="plain mr-3 font-semibold" href="#/jobs/{job}">{job}</a>{/each}
              {#each cause.runs.slice(0, 6) as run (run)}<a class="plain mr-2" href="#/runs/{run}">run {run}</a>{/each}
              {#if cause.runs.length > 6}and {count(cause.runs.length - 6)} more{/if}
            </p>
          </div>
        {/each}
        {#each halted as one (one.job)}
          <div class="px-4 py-3">
            <State name={one.state} />
            <a class="plain ml-2 font-semibold" href="#/streams/{one.job}">{one.job}</a>
            <span class="text-base-content/70 ml-2 text-xs">since {moment(one.since)}</span>
            {#if one.error}<p class="mt-1 break-words">{one.error.detail}</p><p class="text-base-content/70 break-words">{one.error.hint}</p>{/if}
          </div>
        {/each}
        {#each today.late as late (late.job)}
          <div class="px-4 py-3">
            <span class="text-warning">◷ late</span>
            <a class="plain ml-2 font-semibold" href="#/jobs/{late.job}">{late.job}</a>
            <span class="ml-2">should have succeeded by {late.due} ({late.timezone})</span>
          </div>
        {/each}
        {#each today.waiting as one (one.job + one.scheduled_for)}
          <div class="px-4 py-3">
            <span class="text-warning">◇ not run</span>
            <a class="plain ml-2 font-semibold" href="#/jobs/{one.job}">{one.job}</a>
            <span class="ml-2"
              >waits for {#each one.waits_for as name, place (name)}{place ? ", " : ""}<a class="plain" href="#/jobs/{name}">{name}</a>{/each}, which did not
              succeed for {moment(one.scheduled_for)}</span
            >
          </div>
        {/each}
      </div>
    </section>
  {/if}
  {#if today.streams.length}
    <section class="mb-5" aria-labelledby="streams">
      <h2 id="streams" class="mb-2 font-semibold">Streams</h2>
      <ul class="panel divide-base-300 divide-y">
        {#each today.streams.slice(0, 8) as one (one.job)}
          <li class="flex flex-wrap items-baseline gap-x-3 px-4 py-2"><State name={one.state} /><a class="plain min-w-0 font-semibold [overflow-wrap:anywhere]" href="#/streams/{one.job}">{one.job}</a><span class="text-base-content/70 min-w-0 text-xs [overflow-wrap:anywhere]">{one.source} → {one.target}</span><span class="ml-auto">lag {lagOf(one)}</span></li>
        {/each}
      </ul>
      {#if today.streams.length > 8}<p class="mt-1 text-xs"><a class="plain" href="#/streams">and {count(today.streams.length - 8)} more</a></p>{/if}
    </section>
  {/if}
  <section class="mb-5" aria-labelledby="day">
    <h2 id="day" class="mb-2 font-semibold">The last 24 hours</h2>
    <TimeAxis runs={today.runs} at={today.at} />
  </section>
  <div class="grid gap-5 md:grid-cols-3">
    <section aria-labelledby="now">
      <h2 id="now" class="mb-2 font-semibold">Runs now</h2>
      <ul class="panel divide-base-300 divide-y">
        {#each today.under_way as run (run.id)}
          <li class="flex flex-wrap gap-x-3 px-4 py-2"><State name={run.state} /><a class="plain font-semibold" href="#/runs/{run.id}">{run.job}</a><span class="text-base-content/70 text-xs">{moment(run.started_at ?? run.queued_at)}</span></li>
        {:else}
          <li class="px-4 py-2">nothing</li>
        {/each}
      </ul>
    </section>
    <section aria-labelledby="next">
      <h2 id="next" class="mb-2 font-semibold">Comes next</h2>
      <ul class="panel divide-base-300 divide-y">
        {#each today.next as upcoming, place (place)}
          <li class="flex flex-wrap justify-between gap-x-3 px-4 py-2"><a class="plain font-semibold" href="#/jobs/{upcoming.job}">{upcoming.job}</a><span class="text-base-content/70 text-xs">{moment(upcoming.at)}</span></li>
        {:else}
          <li class="px-4 py-2">no job is run by itself</li>
        {/each}
      </ul>
    </section>
    <section aria-labelledby="rejected">
      <h2 id="rejected" class="mb-2 font-semibold">Rejected rows</h2>
      <ul class="panel divide-base-300 divide-y">
        {#each today.rejected as item (item.run)}
          <li class="flex flex-wrap justify-between gap-x-3 px-4 py-2"><a class="plain font-semibold" href="#/runs/{item.run}">{item.job}</a><span>{count(item.rows)}</span></li>
        {:else}
          <li class="px-4 py-2">none</li>
        {/each}
      </ul>
    </section>
  </div>
{/if}
