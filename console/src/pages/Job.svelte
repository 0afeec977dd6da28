<script lang="ts">
  import { untrack } from "svelte";
  import { exchange, get, post, problemOf } from "../lib/api";
  import { itemsOf, withItems } from "../lib/columns";
  import { draftOf, dropDraft, keepDraft, NEW } from "../lib/drafts";
  import { moment } from "../lib/format";
  import { readJob, valueAt, withValues, type Data, type Path } from "../lib/jobfile";
  import { Doing, load } from "../lib/load.svelte";
  import { api, jobPage, mapPage, query, runPage, streamPage } from "../lib/places";
  import { ask, go, route } from "../lib/router.svelte";
  import { keysOf, type Schema } from "../lib/schema";
  import { may, session } from "../lib/session.svelte";
  import type { Check, Comparison, Edit, Finding, Job, JobComparison, Page, Preview, ProblemBody, Rehearsal, Revision, Run } from "../lib/types";
  import ComparisonView from "../parts/ComparisonView.svelte";
  import Dialog from "../parts/Dialog.svelte";
  import DiffView from "../parts/DiffView.svelte";
  import Findings from "../parts/Findings.svelte";
  import Head from "../parts/Head.svelte";
  import JobFile from "../parts/JobFile.svelte";
  import KeyForm from "../parts/KeyForm.svelte";
  import Loaded from "../parts/Loaded.svelte";
  import PreviewRows from "../parts/PreviewRows.svelte";
  import Problem from "../parts/Problem.svelte";
  import RehearsalView from "../parts/RehearsalView.svelte";
  import CheckedLegs from "../parts/CheckedLegs.svelte";
  import ColumnSheet from "../parts/job/ColumnSheet.svelte";
  import FromPanel from "../parts/job/FromPanel.svelte";
  import IntoPanel from "../parts/job/IntoPanel.svelte";
  import LastRuns from "../parts/job/LastRuns.svelte";
  import MergeDialog from "../parts/job/MergeDialog.svelte";
  import NextTimes from "../parts/job/NextTimes.svelte";
  import Revisions from "../parts/job/Revisions.svelte";

  /** All of a job as one workspace. `start`: the text of a job that is not saved yet, which `restart` gives up. */
  let { name = "", start = "", restart }: { name?: string; start?: string; restart?: () => void } = $props();
  // svelte-ignore state_referenced_locally
  const isNew = !name;
  // svelte-ignore state_referenced_locally
  const draftKey = name || NEW;
  const PAUSE = 900;
  const KEPT_AFTER = 300;
  const WATCH = 10_000;
  const UNDO_APART = 800;
  const MOST_UNDO = 200;

  const schema = load<Schema>(() => "schemas/job");
  const loaded = load<Job>(() => (isNew ? null : `jobs/${encodeURIComponent(name)}`), { every: WATCH });
  /** What the text began with: the last revision that this page knows. */
  let base = $state.raw<{ job: Job; etag: string | null } | null>(null);
  // svelte-ignore state_referenced_locally
  let text = $state(start);
  let before = $state.raw<string[]>([]);
  let changedAt = 0;
  let restored = $state("");
  let check = $state.raw<Check | null>(null);
  let rehearsal = $state.raw<Rehearsal | null>(null);
  let comparison = $state.raw<Comparison | null>(null);
  let checked = $state("");
  let saving = $state(false);
  let merging = $state.raw<{ text: string; start: string; others: Job; etag: string | null; who: string } | null>(null);
  const doing = new Doing();
  const checking = new Doing();

  let job = $derived(base?.job ?? null);
  let readonly = $derived(!may("editor"));
  let dirty = $derived(isNew || (job !== null && text !== job.file));
  let data = $derived(readJob(text));
  let items = $derived(itemsOf(text));
  let jobName = $derived(String(data?.job ?? ""));
  let follows = $derived.by(() => {
    const newer = valueAt(data, ["from", "newer"]);
    return newer !== undefined && newer !== "log";
  });

  // the job as it is loaded, with what this browser has kept of it
  $effect(() => {
    const found = loaded.data;
    const etag = loaded.etag;
    if (found) untrack(() => arrive(found, etag));
  });
  function arrive(found: Job, etag: string | null) {
    const kept = base === null && !readonly ? draftOf(draftKey) : null;
    if (kept && kept.text !== found.file) {
      text = kept.text;
      restored = kept.at;
      // by what it began with, others' changes are seen
      base = { job: { ...found, file: kept.start }, etag: kept.etag };
    } else if (base === null || (etag !== base.etag && text === base.job.file && !doing.what)) {
      text = found.file;
      base = { job: found, etag };
    } else if (etag === base.etag) base = { job: { ...found, file: base.job.file }, etag };
  }
  let overtaken = $derived(!!base && !!loaded.data && loaded.etag !== base.etag && dirty && loaded.data.revision > 0);

  // what is not saved stays in this browser
  $effect(() => {
    const kept = { text, start: base?.job.file ?? start, etag: base?.etag ?? null };
    if (readonly || (!isNew && base === null)) return;
    if (!dirty) return dropDraft(draftKey);
    const waiting = setTimeout(() => keepDraft(draftKey, kept), KEPT_AFTER);
    return () => clearTimeout(waiting);
  });

  function change(next: string) {
    if (next === text) return;
    const now = Date.now();
    // letters that are typed one after the other are taken back together
    if (now - changedAt > UNDO_APART || !before.length) before = [...before, text].slice(-MOST_UNDO);
    changedAt = now;
    text = next;
  }
  function step(next: string) {
    changedAt = 0;
    change(next);
    changedAt = 0;
  }
  function undo() {
    const last = before.at(-1);
    if (last === undefined) return;
    before = before.slice(0, -1);
    text = last;
    changedAt = 0;
  }
  const put = (path: Path, value: unknown) => step(withValues(text, [[path, value]]));
  const putAll = (changes: [Path, unknown][]) => step(withValues(text, changes));

  async function look() {
    const file = text;
    const found = await checking.do("check", () => exchange<Check>("POST", "check", { file }));
    if (!found) return;
    check = found.data;
    checked = file;
  }
  // a job with one object is checked when it is opened; once checked, the check follows what is typed
  let wanted = $derived(may("operator") && data !== null && text !== checked && (check !== null || checking.problem !== null || (schema.data && !valueAt(data, ["from", "tables"]) && !valueAt(data, ["from", "feed"]))));
  $effect(() => {
    void text;
    if (!wanted || checking.what || doing.what || (!isNew && base === null)) return;
    const waiting = setTimeout(() => void look(), check || checking.problem ? PAUSE : 50);
    return () => clearTimeout(waiting);
  });

  async function rehearse() {
    const found = await doing.do("rehearse", () => exchange<Rehearsal>("POST", "rehearse", { file: text }));
    if (found) rehearsal = found.data;
    ask({ drawer: "rows" });
  }
  async function compare(repair = false) {
    const found = await doing.do(repair ? "repair" : "compare", () => post<JobComparison>(`jobs/${encodeURIComponent(name)}/compare`, repair ? { repair } : {}));
    if (!found) return;
    comparison = found;
    ask({ drawer: "comparison" });
    if (found.run !== null && found.run !== undefined) go(runPage(found.run));
  }
  function apply(edit: Edit) {
    const lines = text.split("\n");
    // of a text that was changed meanwhile, other lines may stand there
    if (edit.old.some((line, at) => lines[edit.line - 1 + at] !== line)) return;
    lines.splice(edit.line - 1, edit.old.length, ...edit.new);
    step(lines.join("\n"));
  }

  async function save() {
    saving = false;
    const target = isNew ? jobName : name;
    const headers: Record<string, string> = base?.etag ? { "If-Match": base.etag } : {};
    const answer = await doing.do("save", () => exchange<Job>("PUT", `jobs/${encodeURIComponent(target || "my-job")}`, { file: text, headers }));
    if (!answer) {
      if (doing.problem?.code === "job-changed") await merge();
      return;
    }
    dropDraft(draftKey);
    if (isNew) return go(jobPage(answer.data.name));
    base = { job: answer.data, etag: answer.etag };
    [text, restored] = [answer.data.file, ""];
    loaded.again();
  }
  async function merge() {
    const path = `jobs/${encodeURIComponent(name)}`;
    const found = await doing.do("load", async () => ({ newest: await exchange<Job>("GET", path), revisions: await get<Page<Revision>>(`${path}/revisions?page_size=1`) }));
    if (!found || !base) return;
    merging = { text, start: base.job.file, others: found.newest.data, etag: found.newest.etag, who: found.revisions.items[0]?.saved_by ?? "someone else" };
  }
  function take(next: string) {
    if (!merging) return;
    base = { job: merging.others, etag: merging.etag };
    doing.problem = null;
    merging = null;
    step(next);
  }
  async function begin() {
    const run = await doing.do("run", () => post<Run>(`jobs/${encodeURIComponent(name)}/runs`));
    if (run) go(runPage(run.id));
  }
  async function follow() {
    const address = `streams/${encodeURIComponent(name)}`;
    const done = await doing.do("run", async () => {
      if (!job?.has_stream) await post(address);
      return true;
    });
    if (done) go(streamPage(name));
  }
  async function remove() {
    if (!confirm(`Remove job ${name}? Its runs are kept.`)) return;
    const done = await doing.do("remove", () => exchange("DELETE", `jobs/${encodeURIComponent(name)}`));
    if (done) {
      dropDraft(draftKey);
      go("/jobs");
    }
  }
  function giveUp() {
    dropDraft(draftKey);
    if (isNew) return restart?.();
    restored = "";
    if (loaded.data) {
      base = { job: loaded.data, etag: loaded.etag };
      text = loaded.data.file;
    }
  }

  const isTyping = (element: Element | null) => !!element?.closest("input, textarea, select, .cm-editor");
  function keys(event: KeyboardEvent) {
    const command = event.ctrlKey || event.metaKey;
    if (command && event.key === "s" && !readonly) {
      event.preventDefault();
      if (isNew) void save();
      else if (dirty) saving = true;
    } else if (command && event.key === "z" && !isTyping(event.target as Element)) {
      event.preventDefault();
      undo();
    } else if (event.altKey && /^[1-9]$/.test(event.key)) {
      const chosen = drawers[Number(event.key) - 1];
      if (chosen) {
        event.preventDefault();
        ask({ drawer: chosen.id });
      }
    }
  }

  // columns of source and target, for the sheet
  const INSPECT = 800;
  const HIDDEN = /[{…]/;
  let source = $derived.by(() => {
    const from = (data?.from ?? {}) as Data;
    const [kind, object] = (["table", "files", "query"] as const).map((key) => [key, from[key]] as const).find(([, value]) => typeof value === "string") ?? ["", undefined];
    if (!from.connection || typeof object !== "string" || HIDDEN.test(object)) return null;
    if (kind === "query" && !may("operator")) return null;
    const body = kind === "query" ? { query: object, rows: 12 } : { object, rows: 12, ...(from.layout ? { layout: from.layout } : {}) };
    return { connection: String(from.connection), body };
  });
  let sourceKey = $derived(JSON.stringify(source));
  let preview = $state.raw<Preview | null>(null);
  let previewProblem = $state.raw<ProblemBody | null>(null);
  $effect(() => {
    const asked = sourceKey === "null" ? null : (JSON.parse(sourceKey) as NonNullable<typeof source>);
    if (!asked) {
      preview = null;
      return;
    }
    const abort = new AbortController();
    const waiting = setTimeout(() => {
      post<Preview>(api(asked.connection, "/preview"), asked.body, abort.signal)
        .then((found) => ([preview, previewProblem] = [found, null]))
        .catch((error) => {
          if (!abort.signal.aborted) [preview, previewProblem] = [null, problemOf(error)];
        });
    }, preview || previewProblem ? INSPECT : 0);
    return () => {
      clearTimeout(waiting);
      abort.abort();
    };
  });
  let intoTable = $derived(String(valueAt(data, ["into", "table"]) ?? ""));
  const target = load<Preview>(() => (check?.target_exists && intoTable && !HIDDEN.test(intoTable) ? api(String(valueAt(data, ["into", "connection"])), "/preview", { object: intoTable, rows: 0 }) : null));

  /** What is wrong with keys, by their places, to be shown at them. */
  let problems = $derived.by(() => {
    const found: Record<string, string> = {};
    for (const error of checking.problem?.errors ?? []) found[error.pointer.slice(1).replaceAll("/", ".")] = error.message;
    for (const one of check && text === checked ? check.findings : []) if (one.severity === "error" && one.place) found[one.place] ??= one.message;
    return found;
  });
  const order = { error: 0, warning: 1, note: 2 };
  let findings = $derived([...(check?.findings ?? [])].sort((a: Finding, b: Finding) => order[a.severity] - order[b.severity]));
  let serious = $derived(findings.filter((one) => one.severity !== "note").length);

  let drawers = $derived([
    { id: "findings", name: `Findings${serious ? ` ${serious}` : ""}` },
    { id: "rows", name: "Rows" },
    { id: "statements", name: "Statements" },
    { id: "how", name: "How it runs" },
    ...(isNew ? [] : [{ id: "runs", name: "Last runs" }, { id: "revisions", name: "Revisions" }]),
    ...(comparison ? [{ id: "comparison", name: "Comparison" }] : []),
  ]);
  let drawer = $derived(drawers.some((one) => one.id === route.asked.drawer) ? route.asked.drawer! : check || isNew || may("operator") ? "findings" : "runs");
  let tall = $state(false);
</script>

<svelte:window onkeydown={keys} />
<div class="flex flex-col lg:h-[calc(100vh-2rem)]">
  <Head title={isNew ? jobName || "New job" : name} under={job ? `${job.source} → ${job.target} · revision ${job.revision}, saved ${moment(job.saved_at)}` : isNew ? "not saved yet" : ""}>
    {#snippet more()}
      {#if dirty && !isNew && job}<span class="text-warning text-sm">! not saved</span>{/if}
    {/snippet}
    {#snippet actions()}
      {#if job || isNew}
        {#if may("operator")}
          {#if check && text === checked}<span class="text-sm {check.passed ? 'text-success' : 'text-error'}" role="status">{check.passed ? "✓ passed" : "✗ not passed"}</span>{/if}
          <button class="btn btn-sm" onclick={look} disabled={!!checking.what}>{checking.what ? "Checking …" : "Check"}</button>
          <button class="btn btn-sm" onclick={rehearse} disabled={!!doing.what} title="first rows through read and shape; nothing is written">{doing.what === "rehearse" ? "Rehearsing …" : "Rehearse"}</button>
          {#if !isNew}
            <button class="btn btn-sm" onclick={() => compare()} disabled={!!doing.what || dirty} title={dirty ? "save first" : "which rows differ between source and target; nothing is written"}>{doing.what === "compare" ? "Comparing …" : "Compare"}</button>
          {/if}
        {/if}
        {#if !readonly}
          <button class="btn btn-sm {dirty ? 'btn-primary' : ''}" onclick={() => (isNew ? save() : (saving = true))} disabled={!!doing.what || !dirty} title="Ctrl+S">{isNew ? "Save" : "Save …"}</button>
        {/if}
        {#if may("operator") && job?.is_stream}
          <button class="btn btn-primary btn-sm" onclick={follow} disabled={!!doing.what || dirty} title={dirty ? "save first" : "its tables are copied once, then it follows the log of their source"}>⇢ {job.has_stream ? "Stream" : "Start stream"}</button>
        {:else if may("operator") && !isNew}
          <button class="btn btn-sm {dirty ? '' : 'btn-primary'}" onclick={begin} disabled={!!doing.what || dirty} title={dirty ? "save first" : undefined}>▸ Run</button>
        {/if}
        {#if job}
          <details class="relative">
            <summary class="btn btn-sm" aria-label="More to do">⋯</summary>
            <div class="bg-base-100 border-base-300 absolute right-0 z-40 mt-1 flex w-44 flex-col rounded border p-1 shadow-lg">
              <a class="hover:bg-base-200 rounded px-2 py-1" href={mapPage("", "")}>On the map</a>
              {#if !readonly}<a class="hover:bg-base-200 rounded px-2 py-1" href="/new-job{query({ copy: name })}">Copy to a new job</a>{/if}
              <a class="hover:bg-base-200 rounded px-2 py-1" href="/runs{query({ job: name })}">All its runs</a>
              {#if !readonly}<button class="hover:bg-base-200 cursor-pointer rounded px-2 py-1 text-left" onclick={remove}>Remove …</button>{/if}
            </div>
          </details>
        {/if}
      {/if}
    {/snippet}
  </Head>
  {#if overtaken}
    <p class="panel border-warning mb-2 flex flex-wrap items-center gap-3 px-3 py-1.5 text-sm" role="status">
      <span class="text-warning">!</span> The job was saved by someone else since you opened it: it is at revision {loaded.data?.revision}.
      <button class="btn btn-xs" onclick={merge}>See and merge</button>
    </p>
  {:else if restored}
    <p class="panel mb-2 flex flex-wrap items-center gap-3 px-3 py-1.5 text-sm" role="status">What you had not saved on {moment(restored)} is in the editor again. <button class="btn btn-xs" onclick={giveUp}>Give it up</button></p>
  {:else if isNew && restart}
    <p class="mb-2 text-sm">Nothing is saved before you save it. <button class="plain cursor-pointer underline-offset-2 hover:underline" onclick={giveUp}>Begin anew</button></p>
  {/if}
  {#if doing.problem}<div class="mb-2"><Problem problem={doing.problem} apply={readonly ? undefined : apply} /></div>{/if}
  {#if checking.problem && text}<div class="mb-2"><Problem problem={checking.problem} apply={readonly ? undefined : apply} /></div>{/if}

  {#if !isNew && !job}
    <Loaded of={loaded} lines={12}>{#snippet children()}{/snippet}</Loaded>
    {#if loaded.problem}<p><a class="plain" href="/jobs">See all jobs</a></p>{/if}
  {:else if schema.data}
    {@const root = schema.data}
    <div class="grid min-h-0 flex-1 gap-2 lg:grid-cols-[13.5rem_minmax(0,1fr)_16rem] {tall ? 'lg:hidden' : ''}">
      <section class="panel min-h-0 min-w-0 overflow-auto"><h2 class="bg-base-100 sticky top-0 z-20">From</h2><FromPanel {data} keys={keysOf(root, "JobSource")} {put} {putAll} {readonly} {problems} /></section>
      <section class="panel flex min-h-0 min-w-0 flex-col"><h2>Columns</h2>
        <ColumnSheet {items} {check} {rehearsal} sources={preview?.columns.map((one) => one.name) ?? []} targets={target.data?.columns.map((one) => one.name) ?? []} change={(next) => step(withItems(text, next))} {undo} undoable={before.length > 0} apply={readonly || text !== checked ? undefined : apply} {readonly} />
      </section>
      <section class="panel min-h-0 min-w-0 overflow-auto"><h2 class="bg-base-100 sticky top-0 z-20">Into</h2><IntoPanel {data} keys={keysOf(root, "Target")} {check} {put} {putAll} {readonly} {problems} /></section>
    </div>
    <div class="mt-2 grid min-h-0 gap-2 lg:grid-cols-[minmax(0,1fr)_24rem] {tall ? 'flex-1' : 'lg:h-[17.5rem]'}">
      <section class="panel flex min-h-0 min-w-0 flex-col">
        <div class="border-base-300 flex items-center border-b px-1">
        <div class="flex flex-wrap items-center" role="tablist" aria-label="Drawers">
          {#each drawers as one, place (one.id)}
            <button role="tab" aria-selected={drawer === one.id} aria-controls="drawer" title="Alt+{place + 1}" class="cursor-pointer border-b-2 px-2.5 py-1.5 {drawer === one.id ? 'border-primary font-semibold' : 'hover:border-base-300 border-transparent'}" onclick={() => ask({ drawer: one.id })}>{one.name}</button>
          {/each}
        </div>
          <button class="btn btn-ghost btn-xs ml-auto hidden lg:inline-flex" aria-pressed={tall} onclick={() => (tall = !tall)}>{tall ? "▾ smaller" : "▴ larger"}</button>
        </div>
        <div id="drawer" role="tabpanel" tabindex="0" aria-label={drawers.find((one) => one.id === drawer)?.name} class="min-h-0 flex-1 overflow-auto">
          {#if drawer === "findings"}
            <div class="px-3 py-1" data-testid="check">
              {#if check}
                <p class="py-1 text-sm"><b class="font-semibold {check.passed ? 'text-success' : 'text-error'}">{check.passed ? "✓ passed" : "✗ not passed"}</b>
                  {#if check.strategy}<span data-testid="strategy" class="text-base-content/80">Strategy {check.strategy.name}: {check.strategy.summary}. {Object.entries(check.strategy.why_not).map(([way, why]) => `Not ${way}: ${why}.`).join(" ")}</span>{/if}
                  <span class="text-base-content/75">{check.rows_tried.toLocaleString("en")} rows tried, nothing moved.</span></p>
                <Findings findings={findings} apply={!readonly && text === checked ? apply : undefined} />
                {#if check.legs.length}<CheckedLegs legs={check.legs} />{/if}
              {:else}<p class="text-base-content/75 py-1 text-sm">{checking.what ? "Looking at source and target …" : "Check looks at source and target, and says what a run would do."}</p>{/if}
            </div>
          {:else if drawer === "rows"}
            {#if rehearsal}
              <div data-testid="rehearsal"><p class="px-3 pt-1 text-sm {rehearsal.passed ? 'text-success' : 'text-error'}">{rehearsal.passed ? "✓ passed" : "✗ not passed"}</p><RehearsalView {rehearsal} /></div>
            {/if}
            <div data-testid="from-rows">
              {#if previewProblem}<div class="p-2"><Problem problem={previewProblem} /></div>
              {:else if preview}<PreviewRows {preview} />
              {:else}<p class="text-base-content/75 px-3 py-2 text-sm">{valueAt(data, ["from", "tables"]) ? "Each table is a leg of its own; Check lists them, with fits and problems." : "The first rows of the source are shown here."}</p>{/if}
            </div>
          {:else if drawer === "statements"}
            <div class="px-3 py-2 text-xs">
              {#if check?.source_sql}<p class="mb-1 text-sm">A run would ask the source:</p><pre class="bg-base-200 mb-2 rounded-sm p-2 whitespace-pre-wrap">{check.source_sql}</pre>{/if}
              {#if check?.ddl}<p class="mb-1 text-sm">It {check.target_exists ? "changes" : "creates"} the target by:</p><pre class="bg-base-200 mb-2 rounded-sm p-2 whitespace-pre-wrap">{check.ddl}</pre>{/if}
              {#if check?.target_sql.length}<p class="mb-1 text-sm">What it does in addition to loading rows:</p><pre class="bg-base-200 rounded-sm p-2 whitespace-pre-wrap">{check.target_sql.join(";\n\n")}</pre>{/if}
              {#if !check?.source_sql && !check?.ddl && !check?.target_sql.length}<p class="text-base-content/75 text-sm">{check ? "It needs no statement but those that load the rows." : "Check says by which statements a run would read and write."}</p>{/if}
            </div>
          {:else if drawer === "how"}
            <div class="grid gap-x-5 gap-y-3 px-3 py-2 sm:grid-cols-2" data-testid="how">
              <div>
                <KeyForm keys={keysOf(root, "RunOptions")} {data} path={["run"]} {put} {readonly} {problems}>
                  {#snippet more(path, value)}{#if path[1] === "schedule"}<NextTimes schedule={value} />{/if}{/snippet}
                </KeyForm>
              </div>
              <div><KeyForm keys={keysOf(root, "").filter((one) => ["about", "labels", "parameters", "require", "guard", "objects"].includes(one.key))} {data} path={[]} {put} {readonly} {problems} /></div>
            </div>
          {:else if drawer === "runs" && job}
            <LastRuns job={job.name} marks={follows} />
          {:else if drawer === "revisions" && job}
            <Revisions job={job.name} revision={job.revision} {text} restore={step} {readonly} />
          {:else if drawer === "comparison" && comparison}
            <div data-testid="comparison">
              <p class="px-3 pt-1 text-sm {comparison.equal ? 'text-success' : 'text-error'}">{comparison.equal ? "✓ equal" : "✗ not equal"}</p>
              <ComparisonView {comparison} />
              {#if may("operator") && (comparison.only_source || comparison.different || comparison.only_target)}
                <p class="border-base-300 flex items-center gap-3 border-t px-3.5 py-2 text-sm">
                  <button class="btn btn-sm" disabled={!!doing.what} onclick={() => compare(true)}>{doing.what === "repair" ? "Comparing…" : "Repair"}</button>
                  Compares once more, and loads the rows that differ, and no others.
                </p>
              {/if}
            </div>
          {/if}
        </div>
      </section>
      <section class="panel flex min-h-0 min-w-0 flex-col">
        <h2>Job file</h2>
        <div class="min-h-0 flex-1 overflow-auto">
          <JobFile bind:text={() => text, change} {readonly} problem={checking.problem ?? doing.problem} />
        </div>
      </section>
    </div>
  {:else}
    <Loaded of={schema} lines={12}>{#snippet children()}{/snippet}</Loaded>
  {/if}
</div>
{#if saving && job}
  <Dialog title="Save revision {job.revision + 1} of {name}" close={() => (saving = false)}>
    <DiffView before={job.file} after={text} label="what changes" />
    {#if check && text === checked && !check.passed}<p class="text-warning px-4 pt-2 text-sm">! The check of this text has not passed: a run would fail.</p>{/if}
    {#snippet foot()}
      <button class="btn btn-sm" onclick={() => (saving = false)}>Go on editing</button>
      <!-- svelte-ignore a11y_autofocus -->
      <button class="btn btn-sm btn-primary" autofocus onclick={save}>Save revision {job.revision + 1}</button>
    {/snippet}
  </Dialog>
{/if}
{#if merging}
  <MergeDialog mine={merging.text} start={merging.start} others={merging.others.file} who={merging.who === session.user?.name ? "You, in another window," : merging.who} {take} close={() => (merging = null)} />
{/if}
