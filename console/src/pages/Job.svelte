<script lang="ts">
  import { onMount, tick } from "svelte";
  import { exchange, get, post, problemOf } from "../lib/api";
  import { moment } from "../lib/format";
  import { go } from "../lib/router.svelte";
  import { may } from "../lib/session.svelte";
  import type { Check, Comparison, Edit, Job, JobComparison, Page, ProblemBody, Rehearsal, Run, RunLine } from "../lib/types";
  import ColumnSheet from "../parts/ColumnSheet.svelte";
  import Findings from "../parts/Findings.svelte";
  import FromForm from "../parts/FromForm.svelte";
  import IntoForm from "../parts/IntoForm.svelte";
  import History from "../parts/History.svelte";
  import JobFile from "../parts/JobFile.svelte";
  import CheckedLegs from "../parts/CheckedLegs.svelte";
  import Marks from "../parts/Marks.svelte";
  import Problem from "../parts/Problem.svelte";
  import ComparisonView from "../parts/ComparisonView.svelte";
  import RehearsalView from "../parts/RehearsalView.svelte";
  import RunsTable from "../parts/RunsTable.svelte";

  /** `start`: the text of a job that is not saved yet. */
  let { name, start: begun = "" }: { name: string; start?: string } = $props();
  // svelte-ignore state_referenced_locally
  const isNew = name === "new job";
  let job = $state<Job | null>(null);
  let etag = $state<string | null>(null);
  // svelte-ignore state_referenced_locally
  let text = $state(begun);
  let runs = $state<RunLine[]>([]);
  let check = $state<Check | null>(null);
  let rehearsal = $state<Rehearsal | null>(null);
  let comparison = $state<Comparison | null>(null);
  let compared = $state<HTMLElement>();
  let fresh = $state("");
  const PAUSE = 900;
  let busy = $state("");
  let problem = $state<ProblemBody | null>(null);
  let dirty = $derived(isNew || (job !== null && text !== job.file));

  async function doing<T>(what: string, action: () => Promise<T>): Promise<T | undefined> {
    busy = what;
    problem = null;
    try {
      return await action();
    } catch (error) {
      problem = problemOf(error);
    } finally {
      busy = "";
    }
  }

  async function load() {
    const answer = await exchange<Job>("GET", `jobs/${encodeURIComponent(name)}`);
    job = answer.data;
    etag = answer.etag;
    text = job.file;
    runs = (await get<Page<RunLine>>(`runs?job=${encodeURIComponent(name)}&page_size=10`)).items;
  }
  onMount(() => {
    if (!isNew) void doing("load", load);
  });

  function save() {
    return doing("save", async () => {
      const target = isNew ? (text.match(/^job:\s*["']?([^\s"'#]+)/m)?.[1] ?? "") : name;
      const headers: Record<string, string> = etag ? { "If-Match": etag } : {};
      const answer = await exchange<Job>("PUT", `jobs/${encodeURIComponent(target || "my-job")}`, { file: text, headers });
      if (isNew) return go(`/jobs/${answer.data.name}`);
      job = answer.data;
      etag = answer.etag;
      text = job.file;
    });
  }

  function look() {
    const file = text;
    return doing("check", async () => {
      check = (await exchange<Check>("POST", "check", { file })).data;
      fresh = file;
    });
  }

  function apply(edit: Edit) {
    const lines = text.split("\n");
    // of a text that was changed meanwhile, other lines may stand there
    if (edit.old.some((line, at) => lines[edit.line - 1 + at] !== line)) return;
    lines.splice(edit.line - 1, edit.old.length, ...edit.new);
    text = lines.join("\n");
  }

  function rehearse() {
    return doing("rehearse", async () => {
      rehearsal = (await exchange<Rehearsal>("POST", "rehearse", { file: text })).data;
    });
  }

  function compare() {
    return doing("compare", async () => {
      comparison = await post<Comparison>(`jobs/${encodeURIComponent(name)}/compare`, {});
      await tick();
      compared?.scrollIntoView({ block: "nearest" });
    });
  }

  function repair() {
    return doing("repair", async () => {
      const found = await post<JobComparison>(`jobs/${encodeURIComponent(name)}/compare`, { repair: true });
      comparison = found;
      if (found.run !== null) go(`/runs/${found.run}`);
    });
  }

  // once checked, the check follows what is typed
  $effect(() => {
    if (!check || text === fresh || busy) return;
    const waiting = setTimeout(() => void look(), PAUSE);
    return () => clearTimeout(waiting);
  });

  function start() {
    return doing("run", async () => {
      const run = await post<Run>(`jobs/${encodeURIComponent(name)}/runs`);
      go(`/runs/${run.id}`);
    });
  }

  function follow() {
    return doing("run", async () => {
      const address = `streams/${encodeURIComponent(name)}`;
      if (!job?.has_stream) await post(address);
      go(`/${address}`);
    });
  }

  function keys(event: KeyboardEvent) {
    if ((event.ctrlKey || event.metaKey) && event.key === "s" && dirty && may("editor")) {
      event.preventDefault();
      void save();
    }
  }
</script>

<svelte:window onkeydown={keys} />

<div class="mb-3 flex flex-wrap items-center gap-3">
  <div class="min-w-0 [overflow-wrap:anywhere]">
    <h1 class="text-lg font-semibold">{name}</h1>
    {#if job}
      <p class="text-base-content/70 text-sm">{job.source} → {job.target} · revision {job.revision}, saved {moment(job.saved_at)}</p>
    {/if}
  </div>
  <div class="ml-auto flex flex-wrap items-center gap-2 {job || isNew ? '' : 'hidden'}">
    {#if dirty && !isNew}<span class="text-warning text-sm">! not saved</span>{/if}
    {#if may("operator")}
      <button class="btn btn-sm" onclick={look} disabled={!!busy}>{busy === "check" ? "Checking …" : "Check"}</button>
      <button class="btn btn-sm" onclick={rehearse} disabled={!!busy} title="first rows through read and shape; nothing is written">
        {busy === "rehearse" ? "Rehearsing …" : "Rehearse"}
      </button>
      {#if !isNew}
        <button class="btn btn-sm" onclick={compare} disabled={!!busy || dirty} title={dirty ? "save first" : "which rows differ between source and target; nothing is written"}>
          {busy === "compare" ? "Comparing …" : "Compare"}
        </button>
      {/if}
    {/if}
    {#if may("editor")}
      <button class="btn btn-sm" onclick={save} disabled={!!busy || !dirty} title="Ctrl+S">Save</button>
    {/if}
    {#if may("operator") && job?.is_stream}
      <button class="btn btn-primary btn-sm" onclick={follow} disabled={!!busy || dirty} title={dirty ? "save first" : "its tables are copied once, then it follows the log of their source"}>
        ⇢ {job.has_stream ? "Stream" : "Start stream"}
      </button>
    {:else if may("operator") && !isNew}
      <button class="btn btn-primary btn-sm" onclick={start} disabled={!!busy || dirty} title={dirty ? "save first" : undefined}>
        ▸ Run
      </button>
    {/if}
  </div>
</div>
{#if problem}<div class="mb-3"><Problem {problem} apply={may("editor") ? apply : undefined} /></div>{/if}

{#if job || isNew}
  <section class="panel mb-4 min-w-0">
    <h2>From</h2>
    <FromForm bind:text readonly={!may("editor")} />
  </section>
  <section class="panel mb-4 min-w-0">
    <h2>Columns</h2>
    <ColumnSheet bind:text {check} {rehearsal} readonly={!may("editor")} />
  </section>
  <section class="panel mb-4 min-w-0">
    <h2>Into</h2>
    <IntoForm bind:text {check} readonly={!may("editor")} />
  </section>
{/if}
{#if !job && !isNew && problem}
  <p><a class="plain" href="#/jobs">See all jobs</a></p>
{/if}
<div class="grid items-start gap-4 lg:grid-cols-2 {job || isNew ? '' : 'hidden'}">
  <section class="panel min-w-0">
    <h2>Job file</h2>
    {#if job || isNew}<JobFile bind:text readonly={!may("editor")} {problem} />{/if}
  </section>
  <div class="flex min-w-0 flex-col gap-4">
    {#if check}
      <section class="panel" data-testid="check">
        <h2 class="flex">
          Check
          <span class="ml-auto font-normal {check.passed ? 'text-success' : 'text-error'}">{check.passed ? "✓ passed" : "✗ not passed"}</span>
        </h2>
        <div class="px-3.5 py-1.5">
          <Findings findings={check.findings} apply={may("editor") && text === fresh ? apply : undefined} />
          <p class="text-base-content/70 py-1 text-sm">{check.rows_tried.toLocaleString("en")} rows tried, nothing moved.</p>
        </div>
        {#if check.legs.length}<CheckedLegs legs={check.legs} />{/if}
        {#if check.source_sql}
          <div class="border-base-300 border-t px-3.5 py-2">
            <p class="mb-1 text-sm">A run would ask the source:</p>
            <pre class="text-xs whitespace-pre-wrap">{check.source_sql}</pre>
          </div>
        {/if}
      </section>
    {/if}
    {#if rehearsal}
      <section class="panel" data-testid="rehearsal">
        <h2 class="flex">
          Rehearsal
          <span class="ml-auto font-normal {rehearsal.passed ? 'text-success' : 'text-error'}">{rehearsal.passed ? "✓ passed" : "✗ not passed"}</span>
        </h2>
        <RehearsalView {rehearsal} />
      </section>
    {/if}
    {#if comparison}
      <section class="panel" data-testid="comparison" bind:this={compared}>
        <h2 class="flex">
          Comparison
          <span class="ml-auto font-normal {comparison.equal ? 'text-success' : 'text-error'}">{comparison.equal ? "✓ equal" : "✗ not equal"}</span>
        </h2>
        <ComparisonView {comparison} />
        {#if may("operator") && (comparison.only_source || comparison.different || comparison.only_target)}
          <p class="border-base-300 flex items-center gap-3 border-t px-3.5 py-2 text-sm">
            <button class="btn btn-sm" disabled={!!busy} onclick={repair}>{busy === "repair" ? "Comparing…" : "Repair"}</button>
            Compares once more, and loads the rows that differ, and no others.
          </p>
        {/if}
      </section>
    {/if}
    {#if !isNew}
      <section class="panel">
        <h2>Last runs</h2>
        <RunsTable {runs} withJob={false} />
        <History job={name} />
        {#if job && /^\s*newer:|[{,]\s*newer:/m.test(job.file)}<Marks job={job.name} />{/if}
      </section>
    {/if}
  </div>
</div>
