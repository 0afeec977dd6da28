<script lang="ts">
  import { post, problemOf } from "../lib/api";
  import { sectionOf, withKeys } from "../lib/section";
  import type { Preview, ProblemBody } from "../lib/types";
  import ConnectionSelect from "./ConnectionSelect.svelte";
  import PreviewRows from "./PreviewRows.svelte";
  import Problem from "./Problem.svelte";

  let { text = $bindable(), readonly = false }: { text: string; readonly?: boolean } = $props();

  interface From {
    feed: string;
    connection: string;
    table: string;
    tables: string[];
    query: string;
    files: string;
    where: string;
    layout: string | Record<string, unknown>;
  }
  const KINDS = ["table", "tables", "query", "files"] as const;
  const NAMES = { table: "a table", tables: "many tables", query: "a query", files: "files" };
  const listed = (value: string) => value.split(",").map((one) => one.trim()).filter(Boolean);
  const PAUSE = 600;
  const ROWS = 8;

  let from = $derived(sectionOf<From>(text, "from"));
  let kind = $derived(KINDS.find((one) => from?.[one] !== undefined) ?? "table");
  let preview = $state<Preview | null>(null);
  let problem = $state<ProblemBody | null>(null);
  let asked = "";

  function put(values: Record<string, unknown>) {
    text = withKeys(text, "from", values);
  }
  function choose(next: (typeof KINDS)[number]) {
    const held = String(from?.[kind] ?? "");
    const made = next === "query" ? `select * from ${held || "…"}` : next === "tables" ? listed(held || "*") : held || "…";
    put({ [kind]: undefined, layout: next === "files" ? from?.layout : undefined, [next]: made });
  }

  // the rows follow what is typed, once it rests
  $effect(() => {
    const object = from?.[kind];
    if (!from?.connection || !object || typeof object !== "string" || object.includes("{") || object.includes("…")) return;
    const body = kind === "query" ? { query: object, rows: ROWS } : { object, rows: ROWS, ...(from.layout ? { layout: from.layout } : {}) };
    const key = JSON.stringify([from.connection, body]);
    if (key === asked) return;
    const connection = from.connection;
    const waiting = setTimeout(async () => {
      asked = key;
      try {
        const found = await post<Preview>(`connections/${encodeURIComponent(connection)}/preview`, body);
        if (asked === key) [preview, problem] = [found, null];
      } catch (error) {
        if (asked === key) [preview, problem] = [null, problemOf(error)];
      }
    }, preview || problem ? PAUSE : 0);
    return () => clearTimeout(waiting);
  });
</script>

{#if from?.feed}
  <p class="px-3.5 py-2.5" data-testid="from">New files of the feed <a class="plain" href="#/feeds/{from.feed}">{from.feed}</a>, a leg for each version that has some. Check says which.</p>
{:else if from === null}
  <p class="text-base-content/70 px-3.5 py-2 text-sm">The job file cannot be read as it is; the form comes back when it can.</p>
{:else}
  <div class="grid gap-x-6 gap-y-2 px-3.5 py-2.5 lg:grid-cols-[minmax(20rem,2fr)_5fr]" data-testid="from">
    <div class="grid grid-cols-[minmax(5rem,auto)_1fr] items-center gap-x-3 gap-y-2 self-start">
      <label for="from-connection">connection</label>
      <ConnectionSelect id="from-connection" value={from.connection ?? ""} disabled={readonly} choose={(name) => put({ connection: name })} />
      <span>rows of</span>
      <span class="flex flex-wrap gap-x-3">
        {#each KINDS as one (one)}
          <label class="flex items-center gap-1.5">
            <input type="radio" name="from-kind" class="radio radio-xs" value={one} checked={kind === one} disabled={readonly} onchange={() => choose(one)} />{NAMES[one]}
          </label>
        {/each}
      </span>
      <label for="from-object" class="self-start pt-1">{kind}</label>
      {#if kind === "query"}
        <textarea id="from-object" class="textarea textarea-sm w-full font-mono text-xs" rows="4" {readonly} value={from.query ?? ""}
          onchange={(event) => put({ query: event.currentTarget.value })}></textarea>
      {:else if kind === "tables"}
        <input id="from-object" class="input input-sm w-full font-mono" {readonly} value={(from.tables ?? []).join(", ")} placeholder="booking*, guest"
          onchange={(event) => put({ tables: listed(event.currentTarget.value) })} />
      {:else}
        <input id="from-object" class="input input-sm w-full font-mono" {readonly} value={from[kind] ?? ""}
          placeholder={kind === "files" ? "stays/**/*.csv" : "schema.table"} onchange={(event) => put({ [kind]: event.currentTarget.value })} />
      {/if}
      <label for="from-where">where</label>
      <input id="from-where" class="input input-sm w-full font-mono" {readonly} value={from.where ?? ""} placeholder="all rows"
        onchange={(event) => put({ where: event.currentTarget.value })} />
      {#if kind === "files"}
        <span>layout</span>
        <span class="text-base-content/70 text-sm">{typeof from.layout === "string" ? from.layout : from.layout ? "as the job file says" : "found from the file"}</span>
      {/if}
    </div>
    <div class="max-h-60 min-w-0 overflow-auto" data-testid="from-rows">
      {#if problem}<Problem {problem} />
      {:else if preview}<PreviewRows {preview} />
      {:else}<p class="text-base-content/70 text-sm">{kind === "tables" ? "Each table is a leg of its own; Check lists them, with fits and problems." : "The first rows are shown here."}</p>{/if}
    </div>
  </div>
{/if}
