<script lang="ts">
  import { onMount } from "svelte";
  import { get, post, problemOf } from "../lib/api";
  import { bytes, clock, count, moment, took } from "../lib/format";
  import { go } from "../lib/router.svelte";
  import { may } from "../lib/session.svelte";
  import type { Finding, Phase, ProblemBody, Progress, Run, RunEvent } from "../lib/types";
  import ChangesTable from "../parts/ChangesTable.svelte";
  import JobFile from "../parts/JobFile.svelte";
  import Problem from "../parts/Problem.svelte";
  import RejectsTable from "../parts/RejectsTable.svelte";
  import RunPlan from "../parts/RunPlan.svelte";
  import State from "../parts/State.svelte";
  import TallyView from "../parts/TallyView.svelte";

  let { number }: { number: number } = $props();
  let run = $state<Run | null>(null);
  let log = $state<{ at: string; level: string; text: string; fix: string }[]>([]);
  let problem = $state<ProblemBody | null>(null);
  let stopping = $state(false);
  let leg = $derived(run?.legs[0]);
  let share = $derived(
    leg?.progress.bytes_total ? Math.min(1, (leg.progress.bytes_read ?? 0) / leg.progress.bytes_total) : 0,
  );
  let ended = $derived(!!run && ["succeeded", "failed", "stopped"].includes(run.state));

  async function load() {
    try {
      run = await get<Run>(`runs/${number}`);
    } catch (error) {
      problem = problemOf(error);
    }
  }

  function phase(list: Phase[], name: string, state: "running" | "done", at: string) {
    if (!list.length) {
      for (const one of ["read", "shape", "stage", "publish", "verify"] as const) {
        list.push({ name: one, state: "waiting", started_at: null, ended_at: null });
      }
    }
    const found = list.find((one) => one.name === name);
    if (!found) return;
    found.state = state;
    if (state === "running") found.started_at = at;
    else found.ended_at = at;
  }

  function take(event: RunEvent) {
    if (event.kind === "log") {
      log.push({ at: event.at, level: String(event.data.level), text: String(event.data.text), fix: "" });
    } else if (event.kind === "finding") {
      const finding = event.data as unknown as Finding;
      log.push({ at: event.at, level: finding.severity, text: finding.message, fix: finding.fix });
    } else if (event.kind === "rejects") {
      log.push({ at: event.at, level: "warning", text: `${count(Number(event.data.count))} rows rejected`, fix: "" });
    }
    if (!run || !leg || ended) return;
    if (event.kind === "state") run.state = "running";
    else if (event.kind === "phase") {
      phase(leg.phases, String(event.data.name), event.data.state as "running" | "done", event.at);
    } else if (event.kind === "progress") leg.progress = event.data as Progress;
    else if (event.kind === "rejects") leg.rejected = Number(event.data.total);
  }

  onMount(() => {
    let source: EventSource | undefined;
    void load().then(() => {
      if (problem) return;
      source = new EventSource(`/api/v1/runs/${number}/events`);
      for (const kind of ["state", "phase", "progress", "log", "finding", "rejects"]) {
        source.addEventListener(kind, (event) => take(JSON.parse((event as MessageEvent<string>).data)));
      }
      source.addEventListener("end", () => {
        source?.close();
        void load();
      });
    });
    return () => source?.close();
  });

  function undo() {
    if (!confirm(`Take back what run ${number} loaded into ${leg?.target}?`)) return;
    void act(`runs/${number}/undo`, (next) => go(`/runs/${next.id}`));
  }

  async function act(path: string, then: (run: Run) => void) {
    try {
      then(await post<Run>(path));
    } catch (error) {
      problem = problemOf(error);
    }
  }
</script>

{#if problem}<div class="mb-3"><Problem {problem} /></div>{/if}
{#if run && leg}
  <div class="mb-3 flex flex-wrap items-center gap-x-4 gap-y-1">
    <h1 class="text-lg font-semibold">Run {run.id} of <a class="plain" href="#/jobs/{run.job}">{run.job}</a></h1>
    <span class="text-base" data-testid="run-state"><State name={run.state} /></span>
    <span class="text-base-content/70 text-sm">
      revision {run.revision}, by {run.started_by ?? "—"}, queued {moment(run.queued_at)}{#if run.ended_at}, took {took(run.started_at, run.ended_at)}{/if}{#if run.attempts > 1}, attempt {run.attempts}: taken over{/if}
    </span>
    <div class="ml-auto flex gap-2">
      {#if !ended && may("operator")}
        <button
          class="btn btn-sm"
          disabled={stopping}
          onclick={() => {
            stopping = true;
            void act(`runs/${number}/stop`, () => {});
          }}>{stopping ? "Stopping …" : "■ Stop"}</button
        >
      {:else if may("operator")}
        {#if run.state === "succeeded" && run.kind !== "undo" && !run.followed_by.some((one) => one.kind === "undo" && one.state !== "failed")}
          <button class="btn btn-sm" title="take back what this run loaded, where its receipt and the job allow it"
            onclick={undo}>↶ Undo</button>
        {/if}
        <button class="btn btn-sm" onclick={() => act(`jobs/${run!.job}/runs`, (next) => go(`/runs/${next.id}`))}>▸ Run again</button>
      {/if}
    </div>
  </div>

  {#each run.followed_by as other (other.id)}
    <p class="mb-2 text-sm"><a class="plain" href="#/runs/{other.id}">Run {other.id}</a> {other.kind === "undo" ? "undoes this one" : "loads its rejects"}: <State name={other.state} /></p>
  {/each}
  {#if ended && run.state !== "succeeded" && run.outcome !== "nothing"}
    <p class="panel mb-4 px-3.5 py-2.5" data-testid="outcome">
      <State name={run.outcome} />
      {run.outcome === "committed"
        ? "Its rows are in the target. Running the job again may double them."
        : "Whether its rows are in the target is not known yet. The target is asked; this page shows the answer when it is opened again."}
    </p>
  {/if}
  {#if run.error}<div class="mb-4"><Problem problem={run.error} /></div>{/if}

  <section class="panel mb-4">
    <h2 class="flex flex-wrap gap-2">
      <span class="min-w-0 [overflow-wrap:anywhere]">{run.kind === "undo" ? "" : `${leg.source} → `}{leg.target}</span>
      {#if leg.created_target && leg.tally}<span class="text-base-content/70 font-normal">table created</span>{/if}
      <span class="ml-auto font-normal tabular-nums">
        {#if leg.rows_after !== null && leg.rows_before !== null}
          rows in the target: {count(leg.rows_before)} before, {count(leg.rows_after)} after
        {:else if leg.rows_after !== null}
          rows in the files written: {count(leg.rows_after)}
        {/if}
      </span>
    </h2>
    <ol class="divide-base-300 grid grid-cols-2 sm:grid-cols-5 sm:divide-x" aria-label="Phases">
      {#each leg.phases as one (one.name)}
        <li class="px-3.5 py-2">
          <div class="font-semibold">{one.name}</div>
          <State name={one.state} />
          <div class="text-base-content/70 text-xs tabular-nums">{one.ended_at ? took(one.started_at, one.ended_at) : " "}</div>
        </li>
      {:else}
        <li class="text-base-content/70 col-span-2 px-3.5 sm:col-span-5 py-2">{ended ? "Not begun." : "Waiting for a free worker, or for an earlier run of this job."}</li>
      {/each}
    </ol>
    <div class="border-base-300 border-t px-3.5 py-2.5">
      {#if run.kind === "undo"}
        <p>The undo of <a class="plain" href="#/runs/{run.origin}">run {run.origin}</a>: its load is taken back in one step; the log says how.</p>
      {:else if leg.tally}
        {#if run.kind === "rejects"}<p class="mb-1">Rows that <a class="plain" href="#/runs/{run.origin}">run {run.origin}</a> rejected, read again:</p>{/if}
        <TallyView tally={leg.tally} />
        {#if leg.strategy}<p class="text-base-content/70 mt-1.5 text-sm" data-testid="strategy">Written by the strategy <b class="font-semibold">{leg.strategy}</b></p>{/if}
        {#if leg.strategy}<RunPlan run={run.id} />{/if}
        {#if leg.checksums}
          <p class="text-base-content/70 mt-1.5 text-sm" title={Object.entries(leg.checksums).map(([name, sum]) => `${name} ${sum}`).join("\n")}>
            ✓ checksums of {count(Object.keys(leg.checksums).length)} columns: the target gives back what was sent
          </p>
        {/if}
      {:else if !leg.progress.rows_read && leg.progress.rows_scanned}
        <p class="tabular-nums">
          {count(leg.progress.rows_scanned)} rows scanned for their types, {bytes(leg.progress.bytes_scanned)}
        </p>
      {:else}
        <div class="flex flex-wrap gap-x-6 tabular-nums">
          <span><b>{count(leg.progress.rows_read ?? 0)}</b> rows read</span>
          <span><b>{count(leg.progress.rows_staged ?? 0)}</b> staged</span>
          <span><b>{count(leg.rejected)}</b> rejected</span>
          <span><b>{count(leg.progress.rows_per_second ?? 0)}</b> rows/s</span>
          <span class="ml-auto">{bytes(leg.progress.bytes_read)} of {bytes(leg.progress.bytes_total)}</span>
        </div>
        {#if !ended}<progress class="progress progress-primary mt-1 w-full" value={share} max="1" aria-label="share of the file read"></progress>{/if}
      {/if}
    </div>
  </section>

  {#if leg.rejected}
    {#key ended}<RejectsTable run={run.id} retry={run.outcome === "committed" && ended && may("operator") && run.kind !== "undo" ? () => act(`runs/${number}/retry-rejects`, (next) => go(`/runs/${next.id}`)) : undefined} />{/key}
  {/if}
  {#if ended && run.kind !== "undo"}<ChangesTable run={run.id} comparison={leg.comparison} />{/if}

  <div class="grid items-start gap-4 lg:grid-cols-2">
    <section class="panel min-w-0">
      <h2>Log</h2>
      <ol class="px-3.5 py-1.5">
        {#each log as line, index (index)}
          <li class="flex gap-2 py-0.5">
            <time class="text-base-content/60 tabular-nums">{clock(line.at)}</time>
            <span class={line.level === "error" ? "text-error" : line.level === "warning" ? "text-warning" : "text-base-content/70"}>{line.level}</span>
            <span class="min-w-0 break-words">{line.text}{#if line.fix}<span class="text-base-content/70"> — {line.fix}</span>{/if}</span>
          </li>
        {:else}
          <li class="text-base-content/70">Nothing said yet.</li>
        {/each}
      </ol>
      {#if leg.peak_memory}<p class="border-base-300 text-base-content/70 border-t px-3.5 py-1.5 text-sm">first row after {took(run.queued_at, run.first_row_at)}, peak memory {bytes(leg.peak_memory)}</p>{/if}
    </section>
    <section class="panel min-w-0">
      <h2>Job file as it was run</h2>
      <JobFile text={run.file} readonly />
    </section>
  </div>
{/if}
