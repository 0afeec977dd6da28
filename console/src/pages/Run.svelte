<script lang="ts">
  import { onMount } from "svelte";
  import { get, post, problemOf } from "../lib/api";
  import { bytes, clock, count, moment, startedBy, took } from "../lib/format";
  import { added, type Point } from "../lib/speed";
  import { go } from "../lib/router.svelte";
  import { may } from "../lib/session.svelte";
  import type { Finding, Leg, Phase, ProblemBody, Progress, Run, RunEvent } from "../lib/types";
  import ChangesTable from "../parts/ChangesTable.svelte";
  import LegPanel from "../parts/LegPanel.svelte";
  import LegsTable from "../parts/LegsTable.svelte";
  import Differences from "../parts/Differences.svelte";
  import JobFile from "../parts/JobFile.svelte";
  import Problem from "../parts/Problem.svelte";
  import RejectsTable from "../parts/RejectsTable.svelte";
  import State from "../parts/State.svelte";

  let { number }: { number: number } = $props();
  let run = $state<Run | null>(null);
  let log = $state<{ at: string; leg: number | null; level: string; text: string; fix: string }[]>([]);
  let problem = $state<ProblemBody | null>(null);
  let stopping = $state(false);
  /** What each leg said of its rows, over time. */
  let points = $state<Record<number, Point[]>>({});
  let many = $derived(!!run?.legs.some((one) => one.object));
  /** The number of the leg that is shown whole, of a run with many; 0 for none. */
  let chosen = $state(0);
  let leg = $derived(many ? run?.legs.find((one) => one.number === chosen) : run?.legs[0]);
  let shownLog = $derived(leg && many ? log.filter((line) => line.leg === leg.number) : log);
  let ended = $derived(!!run && ["succeeded", "failed", "stopped"].includes(run.state));

  async function load() {
    try {
      run = await get<Run>(`runs/${number}`);
      for (const one of run.legs) {
        const kept = one.pace.map(([seconds, rows]) => ({ at: Date.parse(one.started_at ?? "") + (seconds ?? 0) * 1000, rows: rows ?? 0 }));
        if (kept.length > (points[one.number]?.length ?? 0)) points[one.number] = kept;
      }
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
    if (event.kind === "progress") {
      const number = event.leg ?? 1;
      points[number] = added(points[number] ?? [], event.at, Number(event.data.rows_read ?? 0));
    }
    if (event.kind === "log") {
      log.push({ at: event.at, leg: event.leg, level: String(event.data.level), text: String(event.data.text), fix: "" });
    } else if (event.kind === "finding") {
      const finding = event.data as unknown as Finding;
      log.push({ at: event.at, leg: event.leg, level: finding.severity, text: finding.message, fix: finding.fix });
    } else if (event.kind === "rejects") {
      log.push({ at: event.at, leg: event.leg, level: "warning", text: `${count(Number(event.data.count))} rows rejected`, fix: "" });
    }
    if (!run || ended) return;
    if (event.kind === "state") run.state = "running";
    else if (event.kind === "legs") void load();
    const own = run.legs.find((one) => one.number === (event.leg ?? 1));
    if (!own) return;
    if (event.kind === "leg") {
      own.state = event.data.state as Leg["state"];
      // what it has written is known to the service now
      if (event.data.outcome) later();
    } else if (event.kind === "phase") {
      phase(own.phases, String(event.data.name), event.data.state as "running" | "done", event.at);
    } else if (event.kind === "progress") {
      own.progress = event.data as Progress;
      if (own.slices.length) later();
    } else if (event.kind === "slices" || event.kind === "slice") later();
    else if (event.kind === "rejects") own.rejected = Number(event.data.total);
  }

  let waiting: ReturnType<typeof setTimeout> | undefined;
  /** Asks for the run again soon, once for all that happens until then. */
  function later() {
    waiting ??= setTimeout(() => {
      waiting = undefined;
      void load();
    }, 1000);
  }

  onMount(() => {
    let source: EventSource | undefined;
    void load().then(() => {
      if (problem) return;
      source = new EventSource(`/api/v1/runs/${number}/events`);
      for (const kind of ["state", "legs", "leg", "phase", "progress", "log", "finding", "rejects", "slices", "slice"]) {
        source.addEventListener(kind, (event) => take(JSON.parse((event as MessageEvent<string>).data)));
      }
      source.addEventListener("end", () => {
        source?.close();
        void load();
      });
    });
    return () => {
      clearTimeout(waiting);
      source?.close();
    };
  });

  function undo() {
    if (!confirm(`Take back what run ${number} loaded${leg ? ` into ${leg.target}` : ""}?`)) return;
    void act(`runs/${number}/undo`, (next) => go(`/runs/${next.id}`));
  }

  function again() {
    const only = run!.legs.filter((one) => one.state !== "succeeded").map((one) => one.object);
    void act(`jobs/${run!.job}/runs`, (next) => go(`/runs/${next.id}`), { only, parameters: run!.parameters });
  }

  async function act(path: string, then: (run: Run) => void, body?: Record<string, unknown>) {
    try {
      then(await post<Run>(path, body));
    } catch (error) {
      problem = problemOf(error);
    }
  }
</script>

{#if problem}<div class="mb-3"><Problem {problem} /></div>{/if}
{#if run}
  <div class="mb-3 flex flex-wrap items-center gap-x-4 gap-y-1">
    <h1 class="text-lg font-semibold">Run {run.id} of <a class="plain" href="#/jobs/{run.job}">{run.job}</a></h1>
    <span class="text-base" data-testid="run-state"><State name={run.state} /></span>
    <span class="text-base-content/70 text-sm">
      revision {run.revision}, by {startedBy(run)}{#if run.scheduled_for}, for {moment(run.scheduled_for)}{/if}, queued {moment(run.queued_at)}{#if run.ended_at}, took {took(run.started_at, run.ended_at)}{/if}{#if run.attempts > 1}, attempt {run.attempts}{/if}
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
        {#if many && run.state !== "succeeded"}
          <button class="btn btn-sm" title="copies the objects that did not succeed, by the job as it is now" onclick={again}>▸ Run the rest</button>
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

  {#if many}
    <LegsTable legs={run.legs} chosen={chosen} choose={(number) => (chosen = chosen === number ? 0 : number)} stop={ended || !may("operator") ? undefined : (number) => void act(`runs/${run!.id}/legs/${number}/stop`, (next) => (run = next))} />
  {/if}
  {#if leg}<LegPanel {run} {leg} {ended} points={points[leg.number] ?? []} />{/if}

  {#if leg?.rejected}
    {#key `${ended} ${leg.number}`}<RejectsTable run={run.id} leg={many ? leg.number : undefined} retry={run.outcome === "committed" && ended && may("operator") && run.kind !== "undo" ? () => act(`runs/${number}/retry-rejects`, (next) => go(`/runs/${next.id}`)) : undefined} />{/key}
  {/if}
  {#if leg && ended && run.kind !== "undo"}{#key leg.number}<ChangesTable run={run.id} leg={many ? leg.number : undefined} comparison={leg.comparison} />{/key}{/if}

  {#if ended}<Differences number={run.id} />{/if}
  <div class="grid items-start gap-4 lg:grid-cols-2">
    <section class="panel min-w-0">
      <h2>Log{#if many && leg}&nbsp;of {leg.object}{/if}</h2>
      <ol class="px-3.5 py-1.5">
        {#each shownLog as line, index (index)}
          <li class="flex gap-2 py-0.5">
            <time class="text-base-content/60 tabular-nums">{clock(line.at)}</time>
            <span class={line.level === "error" ? "text-error" : line.level === "warning" ? "text-warning" : "text-base-content/70"}>{line.level}</span>
            <span class="min-w-0 break-words">{#if many && !leg && line.leg}<span class="text-base-content/70">{`${run.legs.find((one) => one.number === line.leg)?.object}: `}</span>{/if}{line.text}{#if line.fix}<span class="text-base-content/70"> — {line.fix}</span>{/if}</span>
          </li>
        {:else}
          <li class="text-base-content/70">Nothing said yet.</li>
        {/each}
      </ol>
      {#if leg?.peak_memory}<p class="border-base-300 text-base-content/70 border-t px-3.5 py-1.5 text-sm">first row after {took(run.queued_at, run.first_row_at)}, peak memory {bytes(leg.peak_memory)}</p>{/if}
    </section>
    <section class="panel min-w-0">
      <h2>Job file as it was run</h2>
      <JobFile text={run.file} readonly />
    </section>
  </div>
{/if}
