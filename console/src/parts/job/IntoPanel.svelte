<script lang="ts">
  import type { Data, Path } from "../../lib/jobfile";
  import { connectionPage, lookPage } from "../../lib/places";
  import type { Key } from "../../lib/schema";
  import type { Check } from "../../lib/types";
  import ConnectionSelect from "../ConnectionSelect.svelte";
  import KeyForm from "../KeyForm.svelte";
  import ObjectPicker from "../ObjectPicker.svelte";

  /** Where the rows of a job go, and how: all keys of `into`. */
  let {
    data,
    keys,
    check,
    put,
    putAll,
    readonly = false,
    problems,
  }: {
    data: Data | null;
    keys: Key[];
    check: Check | null;
    put: (path: Path, value: unknown) => void;
    putAll: (changes: [Path, unknown][]) => void;
    readonly?: boolean;
    problems: Record<string, string>;
  } = $props();

  const KINDS = ["table", "files", "folder"] as const;
  const MODES: Record<string, string> = {
    append: "adds rows",
    overwrite: "replaces all rows; readers meanwhile see the old ones",
    upsert: "matches by keys: new rows are inserted, changed ones updated",
  };
  const OWN = ["connection", "table", "files", "folder", "mode", "keys"];
  /** What is looked at most often, in this order; the others are folded away while they are not set. */
  const FIRST = ["if_different", "rejects", "repeats", "gone", "if_missing"];

  let into = $derived((data?.into ?? {}) as Data);
  let kind = $derived(KINDS.find((one) => into[one] !== undefined) ?? "table");
  let connection = $derived(String(into.connection ?? ""));
  let mode = $derived(String(into.mode ?? "append"));
  let primary = $derived(into.keys === "primary");
  let named = $derived(Array.isArray(into.keys) ? (into.keys as string[]) : []);
  let names = $derived([...new Set([...(check?.columns ?? []).map((one) => one.name), ...named])]);
  let others = $derived(keys.filter((one) => !OWN.includes(one.key)));
  let shown = $derived([...FIRST.filter((key) => (key !== "repeats" && key !== "gone") || (mode === "upsert" && kind === "table")), ...others.map((one) => one.key).filter((key) => !FIRST.includes(key) && into[key] !== undefined)]);
  let first = $derived(shown.flatMap((key) => others.find((one) => one.key === key) ?? []));
  let rest = $derived(others.filter((one) => !shown.includes(one.key)));
  let filter = $state("");
  let note = $derived(["table", "files", "folder", "connection"].map((key) => problems[`into.${key}`]).find(Boolean) ?? problems.into);

  function choose(next: string) {
    // what goes with another mode alone
    const lost = next === "overwrite" || into.if_different !== "rebuild" ? [] : ([[["into", "if_different"], undefined]] as [Path, unknown][]);
    putAll([[["into", "mode"], next === "append" ? undefined : next], ...lost]);
  }
  const toggle = (key: string) => put(["into", "keys"], named.includes(key) ? named.filter((one) => one !== key) : [...named, key]);
</script>

{#if data === null}
  <p class="text-base-content/75 px-3 py-2 text-sm">The job file cannot be read as it is; the form comes back when it can.</p>
{:else}
  <div class="flex flex-col gap-2 px-3 py-2" data-testid="into">
    <div>
      <div class="flex"><label for="into-connection">connection</label>{#if connection}<a class="plain ml-auto text-xs" href={connectionPage(connection)}>look into it</a>{/if}</div>
      <ConnectionSelect id="into-connection" value={connection} disabled={readonly} choose={(name) => put(["into", "connection"], name)} />
    </div>
    <div>
      <div class="flex items-baseline gap-2">
        <label for="into-object">{kind}</label>
        {#if check?.target}<span class="text-base-content/75 text-xs">{kind === "folder" ? "files as they are" : kind === "files" ? "to be written" : check.target_exists ? "exists" : "will be created"}</span>{/if}
        {#if check?.target_exists && kind === "table" && !String(into.table).includes("{")}<a class="plain ml-auto text-xs" href={lookPage(connection, String(into.table))}>look at it</a>{/if}
      </div>
      <ObjectPicker id="into-object" {connection} {readonly} value={String(into[kind] ?? "")} choose={(name) => put(["into", kind], name)} />
      {#if note}<p class="text-error text-xs" role="status">✗ {note}</p>{/if}
    </div>
    <div role="radiogroup" aria-label="mode">
      {#each Object.entries(MODES).filter(([one]) => kind === "table" || one !== "upsert") as [one, said] (one)}
        <label class="flex items-baseline gap-1.5">
          <input type="radio" name="mode" class="radio radio-xs translate-y-0.5" value={one} checked={mode === one} disabled={readonly} onchange={() => choose(one)} />
          <span><b class="font-semibold">{one}</b> <span class="text-base-content/75 text-xs">{said}</span></span>
        </label>
      {/each}
      {#if problems["into.mode"]}<p class="text-error text-xs" role="status">✗ {problems["into.mode"]}</p>{/if}
    </div>
    {#if kind === "table"}
      <div>
        <span id="keys-label">keys</span>
        <div class="flex max-h-28 flex-wrap gap-1 overflow-auto" role="group" aria-labelledby="keys-label">
          {#if primary}<span class="text-sm"><b class="font-semibold">primary</b> <span class="text-base-content/75">the source table's own primary key</span></span>{/if}
          {#each primary ? [] : names as one (one)}
            <button class="btn btn-xs font-mono {named.includes(one) ? 'btn-primary' : 'btn-ghost border-base-300'}" aria-pressed={named.includes(one)} disabled={readonly} onclick={() => toggle(one)}>{named.includes(one) ? "✓ " : ""}{one}</button>
          {:else}
            <span class="text-base-content/75 text-xs {primary ? 'hidden' : ''}">Check shows the columns to choose from.</span>
          {/each}
        </div>
        {#if problems["into.keys"]}<p class="text-error text-xs" role="status">✗ {problems["into.keys"]}</p>{/if}
      </div>
    {/if}
    {#if check?.effect}<p class="bg-base-200 rounded-sm px-2 py-1 text-xs" data-testid="effect"><b class="font-semibold">A run now</b> {check.effect}.</p>{/if}
    <KeyForm keys={first} {data} path={["into"]} {put} {readonly} {problems} />
    <details>
      <summary class="cursor-pointer text-sm">More keys ({rest.length})</summary>
      <input class="input input-xs my-2 w-full" type="search" placeholder="find a key" aria-label="find a key of into" bind:value={filter} />
      <KeyForm keys={rest.filter((one) => `${one.key} ${one.about}`.toLowerCase().includes(filter.toLowerCase()))} {data} path={["into"]} {put} {readonly} {problems} />
    </details>
  </div>
{/if}
