<script lang="ts">
  import { MODES, type Into } from "../lib/into";
  import { sectionOf, withKeys } from "../lib/section";
  import type { Check } from "../lib/types";
  import ConnectionSelect from "./ConnectionSelect.svelte";

  let { text = $bindable(), check, readonly = false }: { text: string; check: Check | null; readonly?: boolean } = $props();

  let into = $derived(sectionOf<Into>(text, "into"));
  let object = $derived<"table" | "files" | "folder">(into?.files !== undefined ? "files" : into?.folder !== undefined ? "folder" : "table");
  let files = $derived(object !== "table");
  let mode = $derived(into?.mode ?? "append");
  let primary = $derived((into?.keys as unknown) === "primary");
  let keys = $derived(primary ? [] : (into?.keys ?? []));
  let names = $derived([...new Set([...(check?.columns ?? []).map((one) => one.name), ...keys])]);
  const DIFFERENT: Record<string, string> = {
    fail: "the run fails before a row moves",
    ignore: "columns that the table has not are left out",
    widen: "new columns are added, types enlarged where nothing is lost",
    rebuild: "a new table takes its place, with its grants and indexes",
  };

  function put(key: string, value: unknown) {
    text = withKeys(text, "into", { [key]: value });
  }
  function choose(next: string) {
    const kept = next === "overwrite" || into?.if_different !== "rebuild";
    text = withKeys(text, "into", { mode: next, ...(kept ? {} : { if_different: undefined }) });
  }
  function toggle(key: string) {
    put("keys", keys.includes(key) ? keys.filter((one) => one !== key) : [...keys, key]);
  }
</script>

{#if into === null}
  <p class="text-base-content/70 px-3.5 py-2 text-sm">The job file cannot be read as it is; the form comes back when it can.</p>
{:else}
  <div class="grid gap-x-6 gap-y-2 px-3.5 py-2.5 lg:grid-cols-2" data-testid="into">
    <div class="grid grid-cols-[minmax(6rem,auto)_1fr] items-center gap-x-3 gap-y-2 self-start">
      <label for="into-connection">connection</label>
      <ConnectionSelect id="into-connection" value={into.connection ?? ""} disabled={readonly} choose={(name) => put("connection", name)} />
      <label for="into-object">{object}</label>
      <span class="flex items-center gap-2">
        <input id="into-object" class="input input-sm w-full max-w-72 font-mono" {readonly} value={into[object] ?? ""}
          onchange={(event) => put(object, event.currentTarget.value)} />
        {#if check?.target}
          <span class="text-base-content/70 text-sm whitespace-nowrap">{object === "folder" ? "files as they are" : files ? "to be written" : check.target_exists ? "exists" : "will be created"}</span>
        {/if}
      </span>
      <span class="self-start pt-1">mode</span>
      <div class="flex flex-col gap-1">
        {#each Object.entries(MODES).filter(([one]) => !files || one !== "upsert") as [one, said] (one)}
          <label class="flex items-baseline gap-2">
            <input type="radio" name="mode" class="radio radio-xs translate-y-0.5" value={one} checked={mode === one} disabled={readonly} onchange={() => choose(one)} />
            <span><b class="font-semibold">{one}</b> <span class="text-base-content/70">{said}</span></span>
          </label>
        {/each}
      </div>
      {#if !files}
        <span class="self-start pt-1">keys</span>
        <div class="flex max-h-24 flex-wrap gap-1 overflow-auto" role="group" aria-label="keys">
          {#if primary}<span class="text-sm"><b class="font-semibold">primary</b> <span class="text-base-content/70">the source table's own primary key</span></span>{/if}
          {#each primary ? [] : names as one (one)}
            <button class="btn btn-xs font-mono {keys.includes(one) ? 'btn-primary' : 'btn-ghost border-base-300'}" aria-pressed={keys.includes(one)}
              disabled={readonly} onclick={() => toggle(one)}>{keys.includes(one) ? "✓ " : ""}{one}</button>
          {:else}
            <span class="text-base-content/60 text-sm {primary ? 'hidden' : ''}">Check shows the columns to choose from.</span>
          {/each}
        </div>
        {#if keys.length || primary}
          <label for="into-repeats">repeats</label>
          <span class="flex items-center gap-2">
            <select id="into-repeats" class="select select-sm w-28 shrink-0" disabled={readonly} value={into.repeats ?? "last"} onchange={(event) => put("repeats", event.currentTarget.value)}>
              {#each ["last", "first", "fail"] as one (one)}<option>{one}</option>{/each}
            </select>
            <span class="text-base-content/70 text-sm">when one key comes twice in a load</span>
          </span>
        {/if}
        <label for="into-different">if different</label>
        <span class="flex items-center gap-2">
          <select id="into-different" class="select select-sm w-28 shrink-0" disabled={readonly} value={into.if_different ?? "fail"} onchange={(event) => put("if_different", event.currentTarget.value)}>
            {#each Object.keys(DIFFERENT).filter((one) => one !== "rebuild" || mode === "overwrite") as one (one)}<option>{one}</option>{/each}
          </select>
          <span class="text-base-content/70 text-sm">{DIFFERENT[into.if_different ?? "fail"]}</span>
        </span>
      {/if}
      <label for="into-rejects">rejects</label>
      <span class="flex items-center gap-2">
        <input id="into-rejects" class="input input-sm w-28" {readonly} value={String(into.rejects ?? 0)}
          onchange={(event) => put("rejects", /^\d+$/.test(event.currentTarget.value) ? Number(event.currentTarget.value) : event.currentTarget.value)} />
        <span class="text-base-content/70 text-sm">bad rows that are tolerated: a count, or "0.5%"</span>
      </span>
    </div>
    <div class="min-w-0 text-sm">
      {#if check}
        {#if check.effect}<p class="mb-2" data-testid="effect"><b class="font-semibold">A run now</b> {check.effect}.</p>{/if}
        {#if check.strategy}
          <p class="mb-2" data-testid="strategy">
            <b class="font-semibold">Strategy {check.strategy.name}:</b> {check.strategy.summary}.
            {#each Object.entries(check.strategy.why_not) as [name, why] (name)}
              <span class="text-base-content/70 block">Not {name}: {why}.</span>
            {/each}
          </p>
        {/if}
        {#if check.ddl}
          <p class="mb-1">It {check.target_exists ? "changes" : "creates"} the target by:</p>
          <pre class="bg-base-200 mb-2 max-h-56 overflow-auto rounded-sm p-2 text-xs">{check.ddl}</pre>
        {/if}
        {#if check.target_sql.length}
          <details>
            <summary class="cursor-pointer">What it does in addition to loading rows, as statements ({check.target_sql.length})</summary>
            <pre class="bg-base-200 mt-1 max-h-56 overflow-auto rounded-sm p-2 text-xs whitespace-pre-wrap">{check.target_sql.join(";\n\n")}</pre>
          </details>
        {/if}
      {:else}
        <p class="text-base-content/70">Check says what a run would do to the target as it is now, and with which statements.</p>
      {/if}
    </div>
  </div>
{/if}
