<script lang="ts">
  import { onMount } from "svelte";
  import { get, post, problemOf } from "../lib/api";
  import { bytes, count, moment, startedBy, took } from "../lib/format";
  import { Doing } from "../lib/load.svelte";
  import type { LogLine } from "../lib/log";
  import { jobPage, runPage } from "../lib/places";
  import { go } from "../lib/router.svelte";
  import { may } from "../lib/session.svelte";
  import { added, type Point } from "../lib/speed";
  import type { Finding, Leg, Phase, ProblemBody, Progress, Run, RunEvent } from "../lib/types";
  import ChangesTable from "../parts/ChangesTable.svelte";
  import Dialog from "../parts/Dialog.svelte";
  import Differences from "../parts/Differences.svelte";
  import Head from "../parts/Head.svelte";
  import JobFile from "../parts/JobFile.svelte";
  import LegPanel from "../parts/LegPanel.svelte";
  import LegsTable from "../parts/LegsTable.svelte";
  import Problem from "../parts/Problem.svelte";
  import RejectsTable from "../parts/RejectsTable.svelte";
  import RunLog from "../parts/RunLog.svelte";
  import State from "../parts/State.svelte";

  let { number: name }: { number: string } = $props();
  let number = $derived(Number(name));
  let run = $state<Run | null>(null);
  /** Grows by what is said; `changed` says that it did, once a frame. */
  const log: LogLine[] = [];
  let changed = $state(0);
  let problem = $state<ProblemBody | null>(null);
  let stopping = $state(false);
  const doing = new Doing();
  /** What each leg said of its rows, over time. */
  let points = $state.raw<Record<number, Point[]>>({});
  let firstReject = $state("");
  let many = $derived(!!run?.legs.some((one) => one.object));
  /** The number of the leg that is shown whole, of a run with many; 0 for none. */
  let chosen = $state(0);
  let leg = $derived(many ? run?.legs.find((one) => one.number === chosen) : run?.legs[0]);
  let ended = $derived(!!run && ["succeeded", "failed", "stopped"].includes(run.state));
  let live = $derived(!!run && !ended);

  async function load() {
    try {
      run = await get<Run>(`runs/${number}`);
      const kept = { ...points };
      for (const one of run.legs) {
        const pace = one.pace.map(([seconds, rows]) => ({ at: Date.parse(one.started_at ?? "") + (seconds ?? 0) * 1000, rows: rows ?? 0 }));
        if (pace.length > (kept[one.number]?.length ?? 0)) kept[one.number] = pace;
      }
      points = kept;
      problem = null;
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

  // what has come since the last frame: thousands of events are one change of the page
  let waiting: RunEvent[] = [];
  let frame = 0;
  function take(event: RunEvent) {
    waiting.push(event);
    frame ||= requestAnimationFrame(() => {
      frame = 0;
      const all = waiting;
      waiting = [];
      flush(all);
    });
  }
  function flush(events: RunEvent[]) {
    // of each leg, the page shows how far it is by now
    const progress = new Map<number, RunEvent>();
    const kept = { ...points };
    for (const event of events) {
      if (event.kind === "log") log.push({ at: event.at, leg: event.leg, level: String(event.data.level), text: String(event.data.text), fix: "" });
      else if (event.kind === "finding") {
        const finding = event.data as unknown as Finding;
        log.push({ at: event.at, leg: event.leg, level: finding.severity, text: finding.message, fix: finding.fix });
      } else if (event.kind === "rejects") {
        log.push({ at: event.at, leg: event.leg, level: "warning", text: `${count(Number(event.data.count))} rows rejected`, fix: "" });
        if (!firstReject && !ended) void seeReject();
      }
      if (event.kind === "progress") {
        const number = event.leg ?? 1;
        progress.set(number, event);
        kept[number] = added(kept[number] ?? [], event.at, Number(event.data.rows_read ?? 0));
      } else happen(event);
    }
    if (progress.size) points = kept;
    progress.forEach(happen);
    changed += 1;
  }
  /** The first row that was rejected, at once. */
  async function seeReject() {
    firstReject = "…";
    const found = await get<{ items: { row: number; column: string; value: string | null; reason: string }[] }>(`runs/${number}/rejects?page_size=1`).catch(() => null);
    const one = found?.items[0];
    firstReject = one ? `row ${count(one.row)}${one.column ? `, column ${one.column}` : ""}${one.value === null ? "" : `: '${one.value}'`}: ${one.reason}` : "";
  }
  function happen(event: RunEvent) {
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

  let soon: ReturnType<typeof setTimeout> | undefined;
  /** Asks for the run again soon, once for all that happens until then. */
  function later() {
    soon ??= setTimeout(() => {
      soon = undefined;
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
      clearTimeout(soon);
      cancelAnimationFrame(frame);
      source?.close();
    };
  });

  function undo() {
    if (!confirm(`Take back what run ${number} loaded${leg ? ` into ${leg.target}` : ""}?`)) return;
    void act(`runs/${number}/undo`, (next) => go(runPage(next.id)));
  }
  function again() {
    const only = run!.legs.filter((one) => one.state !== "succeeded").map((one) => one.object);
    void act(`jobs/${run!.job}/runs`, (next) => go(runPage(next.id)), { only, parameters: run!.parameters });
  }
  async function act(path: string, then: (run: Run) => void, body?: Record<string, unknown>) {
    const next = await doing.do(path, () => post<Run>(path, body));
    if (next) then(next);
  }
  let asking = $state(false);
  /** What is left where a run is stopped now. */
  let leaves = $derived.by(() => {
    const legs = run?.legs ?? [];
    const done = legs.filter((one) => one.state === "succeeded").length;
    const open = legs.filter((one) => one.state === "running").length;
    const publishing = legs.some((one) => one.phases.some((two) => two.name === "publish" && two.state === "running"));
    return [
      done ? `${count(done)} ${done === 1 ? "leg is" : "legs are"} published, and ${done === 1 ? "stays" : "stay"}.` : "",
      open ? `${count(open)} ${open === 1 ? "leg is" : "legs are"} under way: what is staged is dropped, and nothing of ${open === 1 ? "it" : "them"} is in the target.` : "",
      publishing ? "One is publishing just now: it may be through before it is stopped; then its rows are in the target." : "",
      legs.length > done + open ? `${count(legs.length - done - open)} more ${legs.length - done - open === 1 ? "is" : "are"} not begun.` : "",
    ].filter(Boolean);
  });
</script>

<Head
  title={run ? `Run ${run.id} of ${run.job}` : `Run ${name}`}
  under={run
    ? [`revision ${run.revision}`, `by ${startedBy(run)}`, run.scheduled_for ? `for ${moment(run.scheduled_for)}` : "", `queued ${moment(run.queued_at)}`, run.ended_at ? `took ${took(run.started_at, run.ended_at)}` : "", run.attempts > 1 ? `attempt ${run.attempts}` : ""].filter(Boolean).join(", ")
    : ""}
  back={run ? { href: jobPage(run.job), name: run.job } : { href: "/runs", name: "Runs" }}
>
  {#snippet more()}{#if run}<span data-testid="run-state"><State name={run.state} /></span>{/if}{/snippet}
  {#snippet actions()}
    {#if run && !ended && may("operator")}
      <button class="btn btn-sm" disabled={stopping} onclick={() => (asking = true)}>{stopping ? "Stopping …" : "■ Stop …"}</button>
    {:else if run && may("operator")}
      {#if run.state === "succeeded" && run.kind !== "undo" && !run.followed_by.some((one) => one.kind === "undo" && one.state !== "failed")}
        <button class="btn btn-sm" disabled={!!doing.what} title="take back what this run loaded, where its receipt and the job allow it" onclick={undo}>↶ Undo</button>
      {/if}
      {#if many && run.state !== "succeeded"}
        <button class="btn btn-sm" disabled={!!doing.what} title="copies the objects that did not succeed, by the job as it is now" onclick={again}>▸ Run the rest</button>
      {/if}
      <button class="btn btn-sm" disabled={!!doing.what} onclick={() => act(`jobs/${run!.job}/runs`, (next) => go(runPage(next.id)))}>▸ Run again</button>
    {/if}
  {/snippet}
</Head>
{#if problem}<div class="mb-3"><Problem {problem} /></div>{/if}
{#if doing.problem}<div class="mb-3"><Problem problem={doing.problem} /></div>{/if}
{#if asking && run}
  <Dialog title="Stop run {run.id}?" close={() => (asking = false)}>
    <ul class="list-disc px-8 text-sm">{#each leaves as line (line)}<li>{line}</li>{/each}</ul>
    {#snippet foot()}
      <button class="btn btn-sm" onclick={() => (asking = false)}>Let it go on</button>
      <!-- svelte-ignore a11y_autofocus -->
      <button class="btn btn-sm btn-primary" autofocus onclick={() => {
        [asking, stopping] = [false, true];
        void act(`runs/${number}/stop`, () => {});
      }}>■ Stop it</button>
    {/snippet}
  </Dialog>
{/if}
{#if run}
  {#each run.followed_by as other (other.id)}
    <p class="mb-2 text-sm"><a class="plain" href={runPage(other.id)}>Run {other.id}</a> {other.kind === "undo" ? "undoes this one" : "loads its rejects"}: <State name={other.state} /></p>
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

  {#if live && firstReject && firstReject !== "…"}
    <p class="panel border-warning mb-3 px-3.5 py-2 text-sm" role="status" data-testid="first-reject"><span class="text-warning">! first reject:</span> {firstReject}</p>
  {/if}
  {#if many}
    <LegsTable legs={run.legs} chosen={chosen} choose={(number) => (chosen = chosen === number ? 0 : number)} stop={ended || !may("operator") ? undefined : (number) => void act(`runs/${run!.id}/legs/${number}/stop`, (next) => (run = next))} />
  {/if}
  {#if leg}<LegPanel {run} {leg} {ended} points={points[leg.number] ?? []} />{/if}

  {#if leg?.rejected}
    {#key `${ended} ${leg.number}`}<RejectsTable run={run.id} job={run.job} leg={many ? leg.number : undefined} retry={run.outcome === "committed" && ended && may("operator") && run.kind !== "undo" ? () => act(`runs/${number}/retry-rejects`, (next) => go(`/runs/${next.id}`)) : undefined} />{/key}
  {/if}
  {#if leg && ended && run.kind !== "undo"}{#key leg.number}<ChangesTable run={run.id} leg={many ? leg.number : undefined} comparison={leg.comparison} />{/key}{/if}

  {#if ended}<Differences number={run.id} />{/if}
  <div class="grid items-start gap-4 lg:grid-cols-2">
    <div class="min-w-0">
      <RunLog lines={log} {changed} legs={run.legs} leg={many && leg ? leg.number : 0} {live} />
      {#if leg?.peak_memory}<p class="text-base-content/75 px-3.5 py-1.5 text-sm">first row after {took(run.queued_at, run.first_row_at)}, peak memory {bytes(leg.peak_memory)}</p>{/if}
    </div>
    <section class="panel min-w-0">
      <h2>Job file as it was run</h2>
      <JobFile text={run.file} readonly />
    </section>
  </div>
{/if}
