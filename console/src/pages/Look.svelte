<script lang="ts">
  import { get, post, problemOf } from "../lib/api";
  import { bytes, count } from "../lib/format";
  import { api, connectionPage } from "../lib/places";
  import type { Layout, Preview, ProblemBody } from "../lib/types";
  import Findings from "../parts/Findings.svelte";
  import LayoutEditor from "../parts/LayoutEditor.svelte";
  import Objects from "../parts/Objects.svelte";
  import PreviewRows from "../parts/PreviewRows.svelte";
  import Problem from "../parts/Problem.svelte";
  import SeenColumns from "../parts/SeenColumns.svelte";

  let { connection, object }: { connection: string; object: string } = $props();
  let preview = $state<Preview | null>(null);
  let problem = $state<ProblemBody | null>(null);
  let random = $state(false);
  let counts = $state(false);
  let whole = $state(false);
  let editing = $state(false);
  let busy = $state(false);

  // a sheet of a workbook: file.xlsx#Sheet
  let file = $derived(object.split("#")[0] ?? "");
  let sheet = $derived(object.split("#")[1]);
  let serious = $derived(preview?.findings.filter((one) => one.severity !== "note") ?? []);
  let notes = $derived(preview?.findings.filter((one) => one.severity === "note") ?? []);
  let isFile = $derived(preview?.kind === "file");
  let hasParts = $derived(/\.(zip|xlsx|xlsm|xlsb|xls|ods)$/i.test(file));

  $effect(() => {
    const body: Record<string, unknown> = { object: file, rows: 50, random, counts, whole };
    if (sheet) body.layout = { format: "xlsx", sheet } satisfies Layout;
    busy = true;
    const call = random || counts || whole || sheet
      ? post<Preview>(api(connection, "/preview"), body)
      : get<Preview>(api(connection, "/preview", { object: file, rows: 50 }));
    call
      .then((given) => {
        preview = given;
        problem = null;
      })
      .catch((error) => (problem = problemOf(error)))
      .finally(() => (busy = false));
  });
</script>

<div class="mb-3 flex flex-wrap items-baseline gap-x-3 gap-y-1">
  <h1 class="text-lg font-semibold break-all">
    <a class="plain" href={connectionPage(connection)}>{connection}</a> / {object}
  </h1>
  {#if preview}
    <span class="text-base-content/70">
      {preview.kind}{preview.size !== undefined ? `, ${bytes(preview.size)}` : ""}{preview.row_estimate
        ? `, about ${count(preview.row_estimate)} rows`
        : ""}{preview.layout ? `, ${preview.layout.format}` : ""}
    </span>
    {#if preview.comment}<span>{preview.comment}</span>{/if}
  {/if}
</div>
<div class="mb-3 flex flex-wrap items-center gap-4">
  <label class="flex items-center gap-1.5"><input type="checkbox" class="checkbox checkbox-xs" bind:checked={random} /> random rows</label>
  <label class="flex items-center gap-1.5"><input type="checkbox" class="checkbox checkbox-xs" bind:checked={counts} /> value counts</label>
  <label class="flex items-center gap-1.5"><input type="checkbox" class="checkbox checkbox-xs" bind:checked={whole} /> from all of it</label>
  {#if isFile}
    <button class="btn btn-sm {editing ? '' : 'btn-primary'}" onclick={() => (editing = !editing)}>
      {editing ? "Close the layout" : "Edit the layout"}
    </button>
  {/if}
  <span role="status" class="text-base-content/60">{busy ? "reading …" : ""}</span>
</div>
{#if problem}<div class="mb-3"><Problem {problem} /></div>{/if}
{#if editing && preview?.layout}
  {#key object}<LayoutEditor {connection} object={file} start={preview.layout} />{/key}
{:else if preview}
  {#if serious.length}<div class="panel mb-3 px-3 py-1"><Findings findings={serious} /></div>{/if}
  <section class="panel mb-3">
    <h2>Rows</h2>
    <div class="max-h-96 overflow-auto"><PreviewRows {preview} dim={busy} /></div>
  </section>
  <section class="panel mb-3">
    <h2>
      Columns
      {#if preview.rows_scanned !== undefined}
        <span class="text-base-content/60 font-normal">
          types from {preview.complete ? "all" : "the first"} {count(preview.rows_scanned)} rows
        </span>
      {/if}
    </h2>
    <SeenColumns columns={preview.columns} />
  </section>
  {#if notes.length}
    <section class="panel mb-3">
      <h2>How it was found</h2>
      <div class="px-3 py-1"><Findings findings={notes} /></div>
    </section>
  {/if}
{/if}
{#if hasParts && !sheet && !editing}
  <section class="panel">
    <h2>Inside</h2>
    <div class="p-3"><Objects {connection} holdsFiles={false} inside={file} /></div>
  </section>
{/if}
