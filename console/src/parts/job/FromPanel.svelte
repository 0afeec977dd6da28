<script lang="ts">
  import type { Data, Path } from "../../lib/jobfile";
  import { connectionPage, lookPage } from "../../lib/places";
  import type { Key } from "../../lib/schema";
  import ConnectionSelect from "../ConnectionSelect.svelte";
  import KeyForm from "../KeyForm.svelte";
  import ObjectPicker from "../ObjectPicker.svelte";

  /** Where the rows of a job come from: all keys of `from`. */
  let {
    data,
    keys,
    put,
    putAll,
    readonly = false,
    problems,
  }: {
    data: Data | null;
    keys: Key[];
    put: (path: Path, value: unknown) => void;
    putAll: (changes: [Path, unknown][]) => void;
    readonly?: boolean;
    problems: Record<string, string>;
  } = $props();

  const KINDS = ["table", "tables", "query", "files"] as const;
  const NAMES = { table: "a table", tables: "tables", query: "a query", files: "files" };
  // a run writes it, and no one by hand
  const HIDDEN = ["connection", "table", "tables", "query", "files", "where", "feed", "part"];
  const listed = (value: string) => value.split(",").map((one) => one.trim()).filter(Boolean);

  let from = $derived((data?.from ?? {}) as Data);
  let kind = $derived(KINDS.find((one) => from[one] !== undefined) ?? "table");
  let connection = $derived(String(from.connection ?? ""));
  let named = $derived(from[kind]);
  let others = $derived(keys.filter((one) => !HIDDEN.includes(one.key)));
  let set = $derived(others.filter((one) => from[one.key] !== undefined));
  let unset = $derived(others.filter((one) => from[one.key] === undefined));
  let note = $derived(["table", "tables", "query", "files", "connection", "where"].map((key) => problems[`from.${key}`]).find(Boolean) ?? problems.from);

  function choose(next: (typeof KINDS)[number]) {
    const held = Array.isArray(named) ? named.join(", ") : String(named ?? "");
    const made = next === "query" ? `select * from ${held || "…"}` : next === "tables" ? listed(held || "*") : held || "…";
    putAll([[["from", kind], undefined], [["from", "layout"], next === "files" ? from.layout : undefined], [["from", next], made]]);
  }
</script>

{#if from.feed !== undefined}
  <p class="px-3 py-2" data-testid="from">New files of the feed <a class="plain" href="/feeds/{from.feed}">{String(from.feed)}</a>, a leg for each version that has some. Check says which.</p>
{:else if data === null}
  <p class="text-base-content/75 px-3 py-2 text-sm">The job file cannot be read as it is; the form comes back when it can.</p>
{:else}
  <div class="flex flex-col gap-2 px-3 py-2" data-testid="from">
    <div>
      <div class="flex"><label for="from-connection">connection</label>{#if connection}<a class="plain ml-auto text-xs" href={connectionPage(connection)}>look into it</a>{/if}</div>
      <ConnectionSelect id="from-connection" value={connection} disabled={readonly} choose={(name) => put(["from", "connection"], name)} />
    </div>
    <div role="radiogroup" aria-label="rows of" class="flex flex-wrap gap-x-2.5">
      {#each KINDS as one (one)}
        <label class="flex items-center gap-1"><input type="radio" name="from-kind" class="radio radio-xs" value={one} checked={kind === one} disabled={readonly} onchange={() => choose(one)} />{NAMES[one]}</label>
      {/each}
    </div>
    <div>
      <div class="flex"><label for="from-object">{kind}</label>{#if typeof named === "string" && (kind === "table" || kind === "files") && connection && !named.includes("{")}<a class="plain ml-auto text-xs" href={lookPage(connection, named)}>look at it</a>{/if}</div>
      {#if kind === "query"}
        <textarea id="from-object" class="textarea textarea-sm w-full font-mono text-xs" rows="6" {readonly} value={String(named ?? "")} onchange={(event) => put(["from", "query"], event.currentTarget.value)}></textarea>
      {:else if kind === "tables"}
        <textarea id="from-object" class="textarea textarea-sm w-full font-mono text-xs" rows="3" {readonly} value={Array.isArray(named) ? named.join(", ") : String(named ?? "")} placeholder="booking*, guest" onchange={(event) => put(["from", "tables"], listed(event.currentTarget.value))}></textarea>
      {:else}
        <ObjectPicker id="from-object" {connection} {readonly} value={String(named ?? "")} placeholder={kind === "files" ? "stays/**/*.csv" : "schema.table"} choose={(name) => put(["from", kind], name)} />
      {/if}
      {#if note}<p class="text-error text-xs" role="status">✗ {note}</p>{/if}
    </div>
    <div>
      <label for="from-where">where</label>
      <input id="from-where" class="input input-sm w-full font-mono" {readonly} value={String(from.where ?? "")} placeholder="all rows" onchange={(event) => put(["from", "where"], event.currentTarget.value)} />
    </div>
    <KeyForm keys={set} {data} path={["from"]} {put} {readonly} {problems} />
    <details>
      <summary class="cursor-pointer text-sm">More keys ({unset.length})</summary>
      <div class="mt-2"><KeyForm keys={unset} {data} path={["from"]} {put} {readonly} {problems} /></div>
    </details>
  </div>
{/if}
