<script lang="ts">
  import { post } from "../lib/api";
  import { jobId, reached } from "../lib/drawing";
  import { count, lagOf, moment } from "../lib/format";
  import { Doing, load } from "../lib/load.svelte";
  import { jobPage, mapPage, runPage, streamPage } from "../lib/places";
  import { go } from "../lib/router.svelte";
  import { may } from "../lib/session.svelte";
  import type { JobMap, Run, Today } from "../lib/types";
  import Head from "../parts/Head.svelte";
  import Loaded from "../parts/Loaded.svelte";
  import Problem from "../parts/Problem.svelte";
  import State from "../parts/State.svelte";
  import TimeAxis from "../parts/TimeAxis.svelte";

  /** What is wrong, what follows from it, and what to do first; then what runs, what comes, and the last day. */
  const today = load<Today>(() => "today", { every: 5000 });
  const map = load<JobMap>(() => (today.data && (today.data.failed.length || today.data.late.length || today.data.streams.length) ? "map" : null));
  const doing = new Doing();
  const ENDED = ["failed", "paused"];
  const SHOWN = 6;

  interface Matter {
    key: string;
    sign: string;
    jobs: string[];
    at: string | null;
    code: string;
    detail: string;
    hint: string;
    runs: number[];
    stream: boolean;
    late: string;
    /** Jobs that were not run since they wait for it. */
    waiting: string[];
    /** What may be as it was before: objects, and jobs beyond those that wait. */
    stale: string[];
  }
  let matters = $derived.by(() => {
    const now = today.data;
    if (!now) return [];
    const found: Matter[] = now.failed.map((cause) => ({ key: `run ${cause.runs[0]}`, sign: "failed", jobs: cause.jobs, at: cause.at, code: cause.code, detail: cause.detail, hint: cause.hint, runs: cause.runs, stream: false, late: "", waiting: [], stale: [] }));
    for (const one of now.streams.filter((stream) => ENDED.includes(stream.state))) {
      found.push({ key: `stream ${one.job}`, sign: one.state, jobs: [one.job], at: one.since, code: one.error?.code ?? "", detail: one.error?.detail ?? "It was paused.", hint: one.error?.hint ?? "", runs: [], stream: true, late: "", waiting: [], stale: [] });
    }
    for (const one of now.late) {
      const of = found.find((matter) => matter.jobs.includes(one.job));
      const late = `late: it should have succeeded by ${one.due} (${one.timezone})`;
      if (of) of.late = late;
      else found.push({ key: `late ${one.job}`, sign: "late", jobs: [one.job], at: one.since, code: "", detail: `It should have succeeded by ${one.due} (${one.timezone}), and has not.`, hint: "", runs: [], stream: false, late: "", waiting: [], stale: [] });
    }
    for (const one of now.waiting) {
      const of = found.find((matter) => matter.jobs.some((job) => one.waits_for.includes(job)));
      if (of) of.waiting = [...new Set([...of.waiting, one.job])];
      else found.push({ key: `waits ${one.job}`, sign: "not run", jobs: [one.job], at: one.scheduled_for, code: "", detail: `It waits for ${one.waits_for.join(", ")}, which did not succeed for ${moment(one.scheduled_for)}.`, hint: "", runs: [], stream: false, late: "", waiting: [], stale: [] });
    }
    if (map.data) {
      for (const matter of found) {
        const all = reached(map.data, matter.jobs.map(jobId), true);
        matter.stale = [...all].filter((id) => !matter.jobs.map(jobId).includes(id) && !matter.waiting.map(jobId).includes(id));
      }
    }
    // what keeps most from being right comes first
    return found.sort((a, b) => b.waiting.length + b.stale.length - (a.waiting.length + a.stale.length) || Number(!!b.late) - Number(!!a.late));
  });
  let headline = $derived.by(() => {
    if (!matters.length) return "Nothing failed that was not made good, and nothing is late.";
    const jobs = new Set(matters.flatMap((one) => one.jobs)).size;
    const after = new Set(matters.flatMap((one) => one.waiting)).size;
    const late = matters.filter((one) => one.late || one.sign === "late").length;
    return [`${count(jobs)} ${jobs === 1 ? "job needs" : "jobs need"} a look`, after ? `${count(after)} ${after === 1 ? "waits" : "wait"} for them` : "", late ? `${count(late)} late` : ""].filter(Boolean).join(", ") + ".";
  });
  async function again(job: string) {
    const run = await doing.do(job, () => post<Run>(`jobs/${encodeURIComponent(job)}/runs`));
    if (run) go(runPage(run.id));
  }
</script>

<Head title="Today" />
{#if doing.problem}<div class="mb-3"><Problem problem={doing.problem} /></div>{/if}
<Loaded of={today} lines={10}>
  {#snippet children(now)}
    <p class="mb-3 text-base {matters.length ? 'text-error font-semibold' : 'text-success'}" role="status">{matters.length ? "✗" : "✓"} {headline}</p>
    <div class="grid items-start gap-4 xl:grid-cols-[minmax(0,1fr)_19rem]">
      <div class="min-w-0 space-y-4">
        {#if matters.length}
          <section aria-label="What to look at">
            <ol class="panel divide-base-300 divide-y">
              {#each matters as matter, place (matter.key)}
                <li class="grid gap-x-3 gap-y-1 px-3 py-2 sm:grid-cols-[minmax(0,1fr)_auto]">
                  <div class="min-w-0">
                    <p class="flex flex-wrap items-baseline gap-x-3">
                      {#if place === 0 && matters.length > 1}<span class="bg-primary text-primary-content rounded px-1.5 text-xs">first</span>{/if}
                      <State name={matter.sign} />
                      {#each matter.jobs.slice(0, SHOWN) as job (job)}<a class="plain font-semibold [overflow-wrap:anywhere]" href={matter.stream ? streamPage(job) : jobPage(job)}>{job}</a>{/each}
                      {#if matter.jobs.length > SHOWN}<span>and {count(matter.jobs.length - SHOWN)} more jobs</span>{/if}
                      {#if matter.at}<span class="text-base-content/75 text-xs">{moment(matter.at)}</span>{/if}
                      {#if matter.late}<span class="text-warning text-xs">◷ {matter.late}</span>{/if}
                    </p>
                    <p class="mt-0.5 [overflow-wrap:anywhere]">{matter.detail} {#if matter.code}<a class="text-base-content/75 font-mono text-xs whitespace-nowrap hover:underline" href="/docs/messages/{matter.code}/">{matter.code}</a>{/if}</p>
                    {#if matter.hint}<p class="text-sm [overflow-wrap:anywhere]"><b class="font-semibold">Fix:</b> {matter.hint}</p>{/if}
                    {#if matter.waiting.length || matter.stale.length}
                      <p class="text-base-content/80 text-sm [overflow-wrap:anywhere]">
                        {#if matter.waiting.length}<b class="font-semibold">Not run:</b>
                          {#each matter.waiting as job, at (job)}{at ? ", " : " "}<a class="plain" href={jobPage(job)}>{job}</a>{/each}.{/if}
                        {#if matter.stale.length}<b class="font-semibold">As it was before:</b> {matter.stale.slice(0, SHOWN).map((id) => id.replace(/^job /, "")).join(", ")}{matter.stale.length > SHOWN ? ` and ${matter.stale.length - SHOWN} more` : ""}.{/if}
                      </p>
                    {/if}
                  </div>
                  <div class="flex flex-wrap items-start gap-1.5">
                    {#if matter.runs[0]}<a class="btn btn-xs" href={runPage(matter.runs[0])}>Run {matter.runs[0]}</a>{/if}
                    {#if matter.stale.length}<a class="btn btn-xs" href="{mapPage()}?chosen={encodeURIComponent(jobId(matter.jobs[0] ?? ''))}">Map</a>{/if}
                    {#if !matter.stream && matter.jobs.length === 1 && may("operator")}<button class="btn btn-xs" disabled={!!doing.what} onclick={() => again(matter.jobs[0]!)}>▸ Run again</button>{/if}
                  </div>
                </li>
              {/each}
            </ol>
          </section>
        {/if}
        <section aria-labelledby="day">
          <h2 id="day" class="mb-1.5 font-semibold">The last 24 hours</h2>
          <TimeAxis runs={now.runs} at={now.at} />
        </section>
      </div>
      <div class="grid gap-4 sm:grid-cols-2 xl:grid-cols-1">
        <section aria-labelledby="now">
          <h2 id="now" class="mb-1.5 font-semibold">Runs now</h2>
          <ul class="panel divide-base-300 divide-y">
            {#each now.under_way.slice(0, SHOWN) as run (run.id)}
              <li class="flex flex-wrap gap-x-3 px-3 py-1"><State name={run.state} /><a class="plain font-semibold [overflow-wrap:anywhere]" href={runPage(run.id)}>{run.job}</a><span class="text-base-content/75 ml-auto text-xs">{moment(run.started_at ?? run.queued_at).slice(11)}</span></li>
            {:else}
              <li class="text-base-content/75 px-3 py-1">nothing</li>
            {/each}
            {#if now.under_way.length > SHOWN}<li class="px-3 py-1"><a class="plain" href="/runs?state=running">and {count(now.under_way.length - SHOWN)} more</a></li>{/if}
          </ul>
        </section>
        {#if now.streams.length}
          <section aria-labelledby="streams">
            <h2 id="streams" class="mb-1.5 font-semibold">Streams</h2>
            <ul class="panel divide-base-300 divide-y">
              {#each now.streams.slice(0, SHOWN) as one (one.job)}
                <li class="flex flex-wrap items-baseline gap-x-3 px-3 py-1"><State name={one.state} /><a class="plain min-w-0 font-semibold [overflow-wrap:anywhere]" href={streamPage(one.job)}>{one.job}</a><span class="text-base-content/75 ml-auto text-xs">lag {lagOf(one)}</span></li>
              {/each}
              {#if now.streams.length > SHOWN}<li class="px-3 py-1"><a class="plain" href="/streams">and {count(now.streams.length - SHOWN)} more</a></li>{/if}
            </ul>
          </section>
        {/if}
        <section aria-labelledby="next">
          <h2 id="next" class="mb-1.5 font-semibold">Comes next</h2>
          <ul class="panel divide-base-300 divide-y">
            {#each now.next.slice(0, SHOWN) as upcoming, place (place)}
              <li class="flex flex-wrap justify-between gap-x-3 px-3 py-1"><a class="plain [overflow-wrap:anywhere]" href={jobPage(upcoming.job)}>{upcoming.job}</a><span class="text-base-content/75 text-xs">{moment(upcoming.at).slice(5, 16)}</span></li>
            {:else}
              <li class="text-base-content/75 px-3 py-1">no job is run by itself</li>
            {/each}
          </ul>
        </section>
        <section aria-labelledby="rejected">
          <h2 id="rejected" class="mb-1.5 font-semibold">Rejected rows</h2>
          <ul class="panel divide-base-300 divide-y">
            {#each now.rejected.slice(0, SHOWN) as item (item.run)}
              <li class="flex flex-wrap justify-between gap-x-3 px-3 py-1"><a class="plain [overflow-wrap:anywhere]" href={runPage(item.run)}>{item.job}</a><span class="tabular-nums">{count(item.rows)}</span></li>
            {:else}
              <li class="text-base-content/75 px-3 py-1">none in what succeeded</li>
            {/each}
          </ul>
        </section>
      </div>
    </div>
  {/snippet}
</Loaded>
