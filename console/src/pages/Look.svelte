<script lang="ts">
  import { post, problemOf } from "../lib/api";
  import { bytes, count } from "../lib/format";
  import { load } from "../lib/load.svelte";
  import { api, askPage, connectionPage, mapPage, query } from "../lib/places";
  import { ask, route } from "../lib/router.svelte";
  import { may } from "../lib/session.svelte";
  import type { Connection, Layout, Preview, ProblemBody, RawStart } from "../lib/types";
  import Findings from "../parts/Findings.svelte";
  import Head from "../parts/Head.svelte";
  import LayoutEditor from "../parts/LayoutEditor.svelte";
  import Objects from "../parts/Objects.svelte";
  import PreviewRows from "../parts/PreviewRows.svelte";
  import Problem from "../parts/Problem.svelte";
  import Waiting from "../parts/Waiting.svelte";
  import SeenColumns from "../parts/SeenColumns.svelte";

  let { connection, object }: { connection: string; object: string } = $props();
  const known = load<Connection>(() => api(connection));
  let isTable = $derived(known.data?.holds === "tables");
  let preview = $state.raw<Preview | null>(null);
  let problem = $state<ProblemBody | null>(null);
  let editing = $state(false);
  let busy = $state(false);
  const OPTIONS = [
    ["random", "random rows"],
    ["counts", "profile"],
    ["whole", "from all of it"],
    ["bytes", "bytes next to them"],
  ] as const;
  const on = (name: string) => route.asked[name] === "1";

  // a sheet of a workbook: file.xlsx#Sheet
  let file = $derived(object.split("#")[0] ?? "");
  let sheet = $derived(object.split("#")[1]);
  let serious = $derived(preview?.findings.filter((one) => one.severity !== "note") ?? []);
  let notes = $derived(preview?.findings.filter((one) => one.severity === "note") ?? []);
  let isFile = $derived(preview?.kind === "file");
  const raw = load<RawStart>(() => (on("bytes") && isFile ? api(connection, "/bytes", { object: file, size: 8192 }) : null));
  // a workbook or an archive that cannot be shown as rows may still be looked into
  const PARTED = /\.(zip|xlsx|xlsm|xlsb|xls|ods)$/i;
  let hasParts = $derived(!sheet && !isTable && (preview?.layout?.format === "xlsx" || PARTED.test(file)));
  let asked = $derived({ random: on("random"), counts: on("counts"), whole: on("whole") });

  $effect(() => {
    const body: Record<string, unknown> = { object: file, rows: 50, ...asked };
    if (sheet) body.layout = { format: "xlsx", sheet } satisfies Layout;
    const abort = new AbortController();
    busy = true;
    post<Preview>(api(connection, "/preview"), body, abort.signal)
      .then((given) => {
        [preview, problem, busy] = [given, null, false];
      })
      .catch((error) => {
        if (!abort.signal.aborted) [problem, busy] = [problemOf(error), false];
      });
    return () => abort.abort();
  });
  let about = $derived(
    preview
      ? [preview.kind, preview.size !== undefined ? bytes(preview.size) : "", preview.row_estimate ? `about ${count(preview.row_estimate)} rows` : "", preview.layout?.format ?? "", preview.comment ?? ""]
          .filter(Boolean)
          .join(", ")
      : "",
  );
</script>

<Head title={object} under={about} back={{ href: connectionPage(connection), name: connection }}>
  {#snippet actions()}
    {#if may("editor")}<a class="btn btn-sm btn-primary" href="/new-job{query({ from: connection, object: file })}">Make a job of it</a>{/if}
    {#if isTable && may("operator")}<a class="btn btn-sm" href={askPage(connection, `select * from ${file}`)}>Ask</a>{/if}
    <a class="btn btn-sm" href={mapPage(`${connection}:${file}`)}>On the map</a>
  {/snippet}
</Head>
<div class="mb-3 flex flex-wrap items-center gap-x-4 gap-y-2">
  {#each OPTIONS.filter(([name]) => name !== "bytes" || isFile) as [name, label] (name)}
    <label class="flex items-center gap-1.5"><input type="checkbox" class="checkbox checkbox-xs" checked={on(name)} onchange={(event) => ask({ [name]: event.currentTarget.checked ? 1 : undefined })} /> {label}</label>
  {/each}
  {#if isFile}
    <button class="btn btn-sm" aria-pressed={editing} onclick={() => (editing = !editing)}>
      {editing ? "Close the layout" : "Edit the layout"}
    </button>
  {/if}
  <span role="status" class="text-base-content/75">{busy ? "reading …" : ""}</span>
</div>
{#if problem}<div class="mb-3"><Problem {problem} /></div>{/if}
{#if busy && !preview}<Waiting />{/if}
{#if editing && preview?.layout}
  {#key object}<LayoutEditor {connection} object={file} start={preview.layout} />{/key}
{:else if preview}
  {#if serious.length}<div class="panel mb-3 px-3 py-1"><Findings findings={serious} /></div>{/if}
  <div class="mb-3 grid gap-3 {on('bytes') && raw.data ? 'xl:grid-cols-2' : ''}">
    {#if on("bytes") && raw.data}
      <section class="panel min-w-0">
        <h2>Bytes <span class="text-base-content/75 font-normal">{raw.data.complete ? "all" : "the first"} {count(raw.data.read)} as {raw.data.encoding}</span></h2>
        <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
        <pre class="max-h-96 overflow-auto px-3 py-2 font-mono text-xs" tabindex="0">{raw.data.text}</pre>
      </section>
    {/if}
    <section class="panel min-w-0">
      <h2>Rows</h2>
      <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
      <div class="max-h-96 overflow-auto" tabindex="0" role="region" aria-label="Rows"><PreviewRows {preview} dim={busy} /></div>
    </section>
  </div>
  <section class="panel mb-3">
    <h2>
      Columns
      {#if preview.rows_scanned !== undefined}
        <span class="text-base-content/75 font-normal">
          types from {preview.complete ? "all" : "the first"} {count(preview.rows_scanned)} rows
        </span>
      {/if}
    </h2>
    <SeenColumns columns={preview.columns} object="{connection}:{file}" />
  </section>
  {#if notes.length}
    <section class="panel mb-3">
      <h2>How it was found</h2>
      <div class="px-3 py-1"><Findings findings={notes} /></div>
    </section>
  {/if}
{/if}
{#if hasParts && !editing}
  <section class="panel">
    <h2>Inside</h2>
    <div class="p-3"><Objects {connection} holdsFiles={false} inside={file} /></div>
  </section>
{/if}
