<script lang="ts">
  /** Raw bytes on one side, parsed rows on the other; each change of the layout is shown at once. */
  import { onMount, untrack } from "svelte";
  import { exchange, get, post, problemOf } from "../lib/api";
  import { api } from "../lib/places";
  import type { Schema } from "../lib/schema";
  import { may } from "../lib/session.svelte";
  import type { FixedField, Layout, Page, Preview, ProblemBody, RawStart, SavedLayout } from "../lib/types";
  import FieldNames from "./FieldNames.svelte";
  import Findings from "./Findings.svelte";
  import PreviewRows from "./PreviewRows.svelte";
  import Problem from "./Problem.svelte";
  import Ruler from "./Ruler.svelte";
  import SchemaForm from "./SchemaForm.svelte";

  let { connection, object, start }: { connection: string; object: string; start: Layout } = $props();

  let layout = $state<Layout>(untrack(() => ({ ...start })));
  let formats = $state<Record<string, Schema>>({});
  let saved = $state<SavedLayout[]>([]);
  let raw = $state<RawStart | null>(null);
  let preview = $state<Preview | null>(null);
  let problem = $state<ProblemBody | null>(null);
  let busy = $state(false);
  let name = $state("");
  let shown = $state("");
  let asked = 0;

  const TEXT = ["delimited", "fixed", "jsonl", "json", "xml"];
  let isText = $derived(TEXT.includes(layout.format));
  let schema = $derived(formats[layout.format]);
  let values = $derived(schema?.$defs?.Values);

  onMount(async () => {
    try {
      formats = await get<Record<string, Schema>>("formats");
      saved = (await get<Page<SavedLayout>>("layouts?page_size=200")).items;
    } catch (error) {
      problem = problemOf(error);
    }
  });

  let timer: ReturnType<typeof setTimeout> | undefined;
  $effect(() => {
    const wanted = JSON.stringify(layout);
    clearTimeout(timer);
    timer = setTimeout(() => show(JSON.parse(wanted)), 200);
    return () => clearTimeout(timer);
  });
  $effect(() => {
    const encoding = String(layout.encoding ?? "");
    if (!isText) return;
    get<RawStart>(api(connection, "/bytes", { object, size: 24_000, encoding }))
      .then((given) => (raw = given))
      .catch((error) => (problem = problemOf(error)));
  });

  async function show(wanted: Layout) {
    const mine = ++asked;
    busy = true;
    try {
      const seen = await post<Preview>(api(connection, "/preview"), { object, layout: wanted, rows: 60 });
      if (mine === asked) {
        preview = seen;
        problem = null;
      }
    } catch (error) {
      if (mine === asked) problem = problemOf(error);
    }
    if (mine === asked) busy = false;
  }

  function set(key: string, value: unknown) {
    shown = "";
    const next = { ...layout };
    if (value === undefined) delete next[key];
    else next[key] = value;
    layout = next;
  }
  function setValue(key: string, value: unknown) {
    const next = { ...(layout.values ?? {}) };
    if (value === undefined) delete next[key];
    else next[key] = value;
    set("values", next);
  }
  const setFields = (fields: FixedField[]) => set("fields", fields);

  /** The fields as the service sees them now, where the layout leaves them open. */
  let seen = $derived(preview?.layout?.format === layout.format ? preview.layout : undefined);
  let fields = $derived((layout.fields?.length ? layout.fields : seen?.fields) ?? []);
  let record = $derived(Number(layout.record ?? seen?.record ?? fields.reduce((sum, one) => sum + one.width, 0)));
  let records = $derived.by(() => {
    if (!raw || layout.format !== "fixed") return [];
    const terminator = layout.terminator ?? seen?.terminator;
    if (terminator !== "none") return raw.text.split(/\r?\n/).slice(0, 14);
    const characters = [...raw.text.replace(/[\r\n]/g, "␤")];
    const cut: string[] = [];
    for (let at = 0; at < characters.length && cut.length < 14 && record; at += record) {
      cut.push(characters.slice(at, at + record).join(""));
    }
    return cut;
  });
  /** Reasons by the line of the raw text that they are about; by the record where there are no lines. */
  let bad = $derived.by(() => {
    const before = Number(layout.preamble ?? 0) + (seen?.header ? 1 : 0);
    return new Map((preview?.bad_rows ?? []).map((one) => [(one.line ?? one.row + before) - 1, one.reason]));
  });
  let lines = $derived(raw?.text.split("\n").slice(0, 400) ?? []);

  async function save() {
    shown = "";
    try {
      const expects = (preview?.columns ?? []).map(({ name, type }) => ({ name, type }));
      const json = { ultravect: 1, layout: name, reads: preview?.layout ?? layout, expects };
      const stored = (await exchange<SavedLayout>("PUT", `layouts/${encodeURIComponent(name)}`, { json })).data;
      shown = `saved ${stored.name}, version ${stored.version}; in a job: layout: ${stored.name}`;
      saved = (await get<Page<SavedLayout>>("layouts?page_size=200")).items;
    } catch (error) {
      problem = problemOf(error);
    }
  }
</script>

<section class="panel" aria-label="Layout">
  <div class="border-base-300 flex flex-wrap items-center gap-2 border-b px-3 py-2">
    <h2 class="font-semibold">Layout</h2>
    <label class="sr-only" for="format">Format</label>
    <select
      id="format"
      class="select select-sm w-32"
      value={layout.format}
      onchange={(event) => (layout = { format: event.currentTarget.value })}
    >
      {#each Object.keys(formats) as one (one)}<option value={one}>{one}</option>{/each}
    </select>
    {#if saved.length}
      <label class="sr-only" for="saved">Saved layout</label>
      <select
        id="saved"
        class="select select-sm w-44"
        onchange={(event) => {
          const chosen = saved.find((one) => one.name === event.currentTarget.value);
          if (chosen) layout = { ...chosen.structure.reads, format: chosen.format };
        }}
      >
        <option value="">use a saved layout …</option>
        {#each saved as one (one.name)}<option value={one.name}>{one.name}@{one.version}</option>{/each}
      </select>
    {/if}
    <button class="btn btn-sm" onclick={() => (layout = { ...start })}>Back to what was found</button>
    <span class="text-base-content/75 text-xs" role="status">{busy ? "reading …" : shown}</span>
    {#if may("editor")}
      <form
        class="ml-auto flex gap-2"
        onsubmit={(event) => {
          event.preventDefault();
          save();
        }}
      >
        <label class="sr-only" for="layout-name">Name</label>
        <input id="layout-name" class="input input-sm w-40" placeholder="name, such as weigh-slips" bind:value={name} required />
        <button class="btn btn-sm btn-primary">Save layout</button>
      </form>
    {/if}
  </div>

  <div class="grid lg:grid-cols-[20rem_minmax(0,1fr)]">
    <div class="border-base-300 max-h-[46rem] overflow-y-auto border-r p-3">
      {#if schema}
        <SchemaForm
          {schema}
          values={layout}
          skip={["format"]}
          prefix="layout-"
          change={set}
        />
      {/if}
      {#if values}
        <h3 class="mt-4 mb-2 font-semibold">Values</h3>
        <SchemaForm schema={values} values={layout.values ?? {}} prefix="value-" change={setValue} />
      {/if}
    </div>

    <div class="min-w-0">
      {#if layout.format === "fixed"}
        <div class="border-base-300 border-b p-3">
          <Ruler {fields} width={record} lines={records} {bad} change={setFields} />
          <div class="mt-2"><FieldNames {fields} change={setFields} /></div>
        </div>
      {/if}
      {#if problem}<div class="p-3"><Problem {problem} /></div>{/if}
      <div class="grid {isText && layout.format !== 'fixed' ? 'xl:grid-cols-2' : ''}">
        {#if isText && layout.format !== "fixed" && raw}
          <div class="border-base-300 max-h-[36rem] min-w-0 overflow-auto border-r border-b" aria-label="Raw bytes">
            <div class="text-base-content/75 bg-base-100 sticky top-0 px-3 py-1 text-xs">
              bytes as {raw.encoding}: {raw.reason}
            </div>
            <pre class="px-3 pb-2 font-mono text-xs leading-5">{#each lines as line, index (index)}<span
                  class="block {bad.has(index) ? 'bg-error/15' : ''}"
                  title={bad.get(index)}><span class="text-base-content/75 mr-3 inline-block w-8 text-right select-none"
                    >{bad.has(index) ? "✗ " : ""}{index + 1}</span
                  >{line.replaceAll("\t", "⇥")}</span
                >{/each}</pre>
          </div>
        {/if}
        <div class="border-base-300 max-h-[36rem] min-w-0 overflow-auto border-b" aria-label="Parsed rows">
          {#if preview}
            <div class="text-base-content/75 px-3 py-1 text-xs">
              {preview.columns.length} columns; types from {preview.complete ? "all" : "the first"}
              {preview.rows_scanned?.toLocaleString("en")} rows{preview.bad_count ? `; ${preview.bad_count} not whole` : ""}
            </div>
            <PreviewRows {preview} dim={busy || !!problem} />
          {/if}
        </div>
      </div>
      {#if preview?.findings.length}<div class="px-3 py-1"><Findings findings={preview.findings} /></div>{/if}
    </div>
  </div>
</section>
