<script lang="ts">
  import { onMount } from "svelte";
  import { exchange, get, post, problemOf } from "../lib/api";
  import { bytes, clock, count, lagOf, moment } from "../lib/format";
  import { go } from "../lib/router.svelte";
  import { may } from "../lib/session.svelte";
  import type { Page, ProblemBody, Stream, StreamMinute, StreamReject } from "../lib/types";
  import Minutes from "../parts/Minutes.svelte";
  import Problem from "../parts/Problem.svelte";
  import State from "../parts/State.svelte";

  let { name }: { name: string } = $props();
  // svelte-ignore state_referenced_locally
  const path = `streams/${encodeURIComponent(name)}`;
  let stream = $state<Stream | null>(null);
  let minutes = $state<StreamMinute[]>([]);
  let rejects = $state<StreamReject[]>([]);
  let problem = $state<ProblemBody | null>(null);
  let removing = $state(false);
  const UNDER_WAY = ["waiting", "snapshot", "following"];
  let goes = $derived(stream !== null && UNDER_WAY.includes(stream.state));
  let sums = $derived(stream?.tables.reduce((sum, table) => sum + table.rejected, 0) ?? 0);

  async function load() {
    try {
      stream = await get<Stream>(path);
      minutes = await get<StreamMinute[]>(`${path}/minutes?hours=1`);
      if (sums) rejects = (await get<Page<StreamReject>>(`${path}/rejects?page_size=20`)).items;
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
  async function doing(action: () => Promise<unknown>) {
    try {
      await action();
      await load();
    } catch (error) {
      problem = problemOf(error);
    }
  }
  async function remove() {
    try {
      await exchange("DELETE", path);
      go(`/jobs/${name}`);
    } catch (error) {
      problem = problemOf(error);
    }
    removing = false;
  }
  const LEVELS: Record<string, string> = { error: "text-error", warning: "text-warning" };
</script>

<div class="mb-3 flex flex-wrap items-center gap-3">
  <div class="min-w-0 [overflow-wrap:anywhere]">
    <h1 class="text-lg font-semibold">{name}</h1>
    {#if stream}
      <p class="text-base-content/70 text-sm">
        {stream.source} → {stream.target} · <a class="plain" href="#/jobs/{name}">job</a>, revision {stream.revision}{#if stream.newest_revision !== stream.revision}
          <span class="text-warning">! the job is at revision {stream.newest_revision} by now</span>{/if}
      </p>
    {/if}
  </div>
  {#if stream && may("operator")}
    <div class="ml-auto flex flex-wrap items-center gap-2">
      {#if removing}
        <span class="text-sm">Its source gives up what it keeps for it; what was copied stays.</span>
        <button class="btn btn-error btn-sm" onclick={remove}>Remove</button>
        <button class="btn btn-sm" onclick={() => (removing = false)}>Keep</button>
      {:else}
        {#if goes && stream.newest_revision !== stream.revision}<button class="btn btn-sm" onclick={() => doing(() => post(path))}>Take revision {stream.newest_revision}</button>{/if}
        {#if goes}
          <button class="btn btn-sm" onclick={() => doing(() => post(`${path}/pause`, { why: "" }))} title="its source keeps its log meanwhile">Pause</button>
        {:else}
          <button class="btn btn-primary btn-sm" onclick={() => doing(() => post(path))}>▸ Resume</button>
        {/if}
        <button class="btn btn-sm" onclick={() => (removing = true)}>Remove…</button>
      {/if}
    </div>
  {/if}
</div>
{#if problem}
  <div class="mb-3"><Problem {problem} /></div>
  {#if problem.code === "stream-missing"}<p><a class="plain" href="#/jobs/{name}">The job</a> can start it.</p>{/if}
{/if}

{#if stream}
  <dl class="panel mb-4 grid grid-cols-2 gap-x-6 gap-y-2 px-4 py-3 sm:grid-cols-4">
    <div><dt class="text-base-content/70 text-xs">State</dt><dd><State name={stream.state} /> <span class="text-base-content/70 text-xs">since {moment(stream.since)}</span></dd></div>
    <div><dt class="text-base-content/70 text-xs">Lag of the target</dt><dd class="text-lg font-semibold" data-testid="lag">{lagOf(stream)}</dd></div>
    <div><dt class="text-base-content/70 text-xs">It has the log up to</dt><dd><code>{stream.position || "—"}</code></dd></div>
    <div><dt class="text-base-content/70 text-xs">The source keeps for it</dt><dd>{stream.log_kept === null ? "—" : bytes(stream.log_kept)}</dd></div>
  </dl>
  {#if stream.error}
    <div class="panel border-error mb-4 border-l-4 px-4 py-3" role="status">
      <code class="text-xs">{stream.error.code}</code>
      <p class="break-words">{stream.error.detail}</p>
      {#if stream.error.hint}<p class="text-base-content/70 break-words">{stream.error.hint}</p>{/if}
    </div>
  {/if}
  <section class="panel mb-4 overflow-x-auto" aria-label="Tables">
    <h2>Tables</h2>
    <table class="table-sm table">
      <thead>
        <tr><th>Table</th><th>State</th><th class="num">Copied at first</th><th class="num">Changes</th><th class="num">Inserted</th><th class="num">Updated</th><th class="num">Deleted</th><th class="num">Rejected</th></tr>
      </thead>
      <tbody>
        {#each stream.tables as table (table.object)}
          <tr>
            <td class="font-semibold break-words">{table.object}</td>
            <td><State name={table.state} /></td>
            {#each [table.rows, table.changes, table.inserted, table.updated, table.deleted, table.rejected] as number, place (place)}<td class="num">{count(number)}</td>{/each}
          </tr>
        {:else}
          <tr><td colspan="8">no table is copied yet</td></tr>
        {/each}
      </tbody>
    </table>
  </section>
  <section class="panel mb-4" aria-label="The last hour">
    <h2>The last hour</h2>
    <Minutes {minutes} />
  </section>
  {#if rejects.length}
    <section class="panel mb-4 overflow-x-auto" aria-label="Rejected changes">
      <h2>Rejected changes</h2>
      <table class="table-sm table">
        <thead><tr><th>At</th><th>Table</th><th>Key</th><th>Column</th><th>Value</th><th>Reason</th></tr></thead>
        <tbody>
          {#each rejects as one, place (place)}
            <tr><td class="whitespace-nowrap">{moment(one.at)}</td><td>{one.object}</td><td><code>{one.key}</code></td><td>{one.column}</td><td class="text-error break-all">{one.value ?? "NULL"}</td><td>{one.reason}</td></tr>
          {/each}
        </tbody>
      </table>
    </section>
  {/if}
  <section class="panel" aria-label="What was said">
    <h2>What was said</h2>
    <ol class="max-h-80 overflow-auto px-3.5 py-2 text-sm">
      {#each stream.events as event, place (place)}
        <li class="flex gap-3"><span class="text-base-content/70 whitespace-nowrap" title={moment(event.at)}>{clock(event.at)}</span><span class="min-w-0 break-words {LEVELS[event.level] ?? ''}">{event.text}</span></li>
      {:else}
        <li>nothing yet</li>
      {/each}
    </ol>
  </section>
{/if}
