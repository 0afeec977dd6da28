<script lang="ts">
  import { exchange, post } from "../lib/api";
  import { bytes, clock, count, lagOf, moment } from "../lib/format";
  import { Doing, load } from "../lib/load.svelte";
  import { go } from "../lib/router.svelte";
  import { may } from "../lib/session.svelte";
  import type { Page, Stream, StreamMinute, StreamReject } from "../lib/types";
  import Head from "../parts/Head.svelte";
  import Loaded from "../parts/Loaded.svelte";
  import Minutes from "../parts/Minutes.svelte";
  import Problem from "../parts/Problem.svelte";
  import State from "../parts/State.svelte";

  let { name }: { name: string } = $props();
  // svelte-ignore state_referenced_locally
  const path = `streams/${encodeURIComponent(name)}`;
  const loaded = load<Stream>(() => path, { every: 2000 });
  let stream = $derived(loaded.data);
  const minutes = load<StreamMinute[]>(() => `${path}/minutes?hours=1`, { every: 2000 });
  let rejected = $derived(stream?.tables.reduce((sum, table) => sum + table.rejected, 0) ?? 0);
  const rejects = load<Page<StreamReject>>(() => (rejected ? `${path}/rejects?page_size=20` : null), { every: 5000 });
  const doing = new Doing();
  let removing = $state(false);
  const UNDER_WAY = ["waiting", "snapshot", "following"];
  let goes = $derived(!!stream && UNDER_WAY.includes(stream.state));

  const act = (what: string, action: () => Promise<unknown>) => doing.do(what, action).then(loaded.again);
  async function remove() {
    if (await doing.do("remove", () => exchange("DELETE", path))) go(`/jobs/${name}`);
    removing = false;
  }
  const LEVELS: Record<string, string> = { error: "text-error", warning: "text-warning" };
</script>

<Head title={name} under={stream ? `${stream.source} → ${stream.target}` : ""} back={{ href: "/streams", name: "Streams" }}>
  {#snippet more()}
    {#if stream}
      <span class="text-sm"><a class="plain underline" href="/jobs/{name}">job</a>, revision {stream.revision}</span>
      {#if stream.newest_revision !== stream.revision}<span class="text-warning text-sm">! the job is at revision {stream.newest_revision} by now</span>{/if}
    {/if}
  {/snippet}
  {#snippet actions()}
    {#if stream && may("operator")}
      {#if removing}
        <span class="text-sm">Its source gives up what it keeps for it; what was copied stays.</span>
        <button class="btn btn-error btn-sm" onclick={remove}>Remove</button>
        <button class="btn btn-sm" onclick={() => (removing = false)}>Keep</button>
      {:else}
        {#if goes && stream.newest_revision !== stream.revision}<button class="btn btn-sm" disabled={!!doing.what} onclick={() => act("take", () => post(path))}>Take revision {stream.newest_revision}</button>{/if}
        {#if goes}
          <button class="btn btn-sm" disabled={!!doing.what} onclick={() => act("pause", () => post(`${path}/pause`, { why: "" }))} title="its source keeps its log meanwhile">Pause</button>
        {:else}
          <button class="btn btn-primary btn-sm" disabled={!!doing.what} onclick={() => act("resume", () => post(path))}>▸ Resume</button>
        {/if}
        <button class="btn btn-sm" onclick={() => (removing = true)}>Remove…</button>
      {/if}
    {/if}
  {/snippet}
</Head>
{#if doing.problem}<div class="mb-3"><Problem problem={doing.problem} /></div>{/if}
{#if loaded.problem?.code === "stream-missing"}<p class="mb-3"><a class="plain" href="/jobs/{name}">The job</a> can start it.</p>{/if}
<Loaded of={loaded}>{#snippet children(stream)}
  <dl class="panel mb-4 grid grid-cols-2 gap-x-6 gap-y-2 px-4 py-3 sm:grid-cols-4">
    <div><dt class="text-base-content/75 text-xs">State</dt><dd><State name={stream.state} /> <span class="text-base-content/75 text-xs">since {moment(stream.since)}</span></dd></div>
    <div><dt class="text-base-content/75 text-xs">Lag of the target</dt><dd class="text-lg font-semibold" data-testid="lag">{lagOf(stream)}</dd></div>
    <div><dt class="text-base-content/75 text-xs">It has the log up to</dt><dd><code>{stream.position || "—"}</code></dd></div>
    <div><dt class="text-base-content/75 text-xs">The source keeps for it</dt><dd>{stream.log_kept === null ? "—" : bytes(stream.log_kept)}</dd></div>
  </dl>
  {#if stream.error}
    <div class="panel border-error mb-4 border-l-4 px-4 py-3" role="status">
      <code class="text-xs">{stream.error.code}</code>
      <p class="break-words">{stream.error.detail}</p>
      {#if stream.error.hint}<p class="text-base-content/75 break-words">{stream.error.hint}</p>{/if}
    </div>
  {/if}
  <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
  <section class="panel mb-4 overflow-x-auto" aria-label="Tables" tabindex="0">
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
    <Minutes minutes={minutes.data ?? []} />
  </section>
  {#if rejects.data?.items.length}
    <section class="panel mb-4 overflow-x-auto" aria-label="Rejected changes">
      <h2>Rejected changes</h2>
      <table class="table-sm table">
        <thead><tr><th>At</th><th>Table</th><th>Key</th><th>Column</th><th>Value</th><th>Reason</th></tr></thead>
        <tbody>
          {#each rejects.data.items as one, place (place)}
            <tr><td class="whitespace-nowrap">{moment(one.at)}</td><td>{one.object}</td><td><code>{one.key}</code></td><td>{one.column}</td><td class="text-error break-all">{one.value ?? "NULL"}</td><td>{one.reason}</td></tr>
          {/each}
        </tbody>
      </table>
    </section>
  {/if}
  <section class="panel" aria-label="What was said">
    <h2>What was said</h2>
    <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
    <ol class="max-h-80 overflow-auto px-3.5 py-2 text-sm" tabindex="0">
      {#each stream.events as event, place (place)}
        <li class="flex gap-3"><span class="text-base-content/75 whitespace-nowrap" title={moment(event.at)}>{clock(event.at)}</span><span class="min-w-0 break-words {LEVELS[event.level] ?? ''}">{event.text}</span></li>
      {:else}
        <li>nothing yet</li>
      {/each}
    </ol>
  </section>
{/snippet}</Loaded>
