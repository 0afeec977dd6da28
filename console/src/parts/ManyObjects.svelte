<script lang="ts">
  import { bytes, count, moment } from "../lib/format";
  import { load } from "../lib/load.svelte";
  import { api } from "../lib/places";
  import type { ObjectPage } from "../lib/types";
  import Loaded from "./Loaded.svelte";

  /** Tables or files of a connection, to be ticked; `chosen` are their names, or the pattern of all that are shown. */
  let { connection, chosen = $bindable() }: { connection: string; chosen: string[] } = $props();
  const MOST = 300;
  let search = $state("");
  const page = load<ObjectPage>(() => (connection ? api(connection, "/objects", { search: search.trim(), alike: true, limit: 2000 }) : null), { rest: 150 });
  let items = $derived((page.data?.items ?? []).slice(0, MOST));
  let tables = $derived(items.some((one) => one.kind !== "file" && one.kind !== "files"));
  let pattern = $derived(search.trim() ? `*${search.trim()}*` : "*");
  let all = $derived(chosen.length === 1 && chosen[0] === pattern);

  function tick(name: string, on: boolean) {
    const others = chosen.filter((one) => one !== name && one !== pattern);
    // files are copied by a pattern; several tables are a leg each
    chosen = on ? (tables ? [...others, name] : [name]) : others;
  }
</script>

<div class="mb-2 flex flex-wrap items-center gap-3">
  <input class="input input-sm w-64" type="search" placeholder="search" aria-label="Find objects" bind:value={search} />
  {#if tables}
    <label class="flex items-center gap-1.5 text-sm"><input type="checkbox" class="checkbox checkbox-xs" checked={all} onchange={(event) => (chosen = event.currentTarget.checked ? [pattern] : [])} />all that are like this, also later ones</label>
  {/if}
  <span class="text-base-content/75 ml-auto text-sm" role="status">{chosen.length ? (all ? `all: ${pattern}` : `${count(chosen.length)} chosen`) : ""}</span>
</div>
<Loaded of={page}>
  {#snippet children()}
    <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
    <div class="max-h-[26rem] overflow-auto" tabindex="0" role="region" aria-label="Objects">
      <table class="table-xs table">
        <thead class="bg-base-100 sticky top-0"><tr><th class="w-6"><span class="sr-only">chosen</span></th><th>Name</th><th>Kind</th><th class="num">Rows, about</th><th class="num">Size</th><th>Changed</th></tr></thead>
        <tbody>
          {#each items as one (one.name)}
            {@const id = `object-${one.name}`}
            <tr>
              <td><input {id} type="checkbox" class="checkbox checkbox-xs" aria-label={one.name} disabled={all} checked={all || chosen.includes(one.name)} onchange={(event) => tick(one.name, event.currentTarget.checked)} /></td>
              <td class="min-w-40 font-mono [overflow-wrap:anywhere]"><label for={id} class="cursor-pointer">{one.name}</label></td>
              <td class="whitespace-nowrap">{one.files ? `${count(one.files)} files` : one.kind}</td>
              <td class="num">{one.rows === null || one.rows === undefined ? "" : count(one.rows)}</td>
              <td class="num">{one.size === null || one.size === undefined ? "" : bytes(one.size)}</td>
              <td class="whitespace-nowrap">{one.modified ? moment(one.modified).slice(0, 16) : ""}</td>
            </tr>
          {:else}
            <tr><td colspan="6">{search ? "Nothing of that name." : "It holds nothing yet."}</td></tr>
          {/each}
        </tbody>
      </table>
    </div>
    {#if (page.data?.items.length ?? 0) > MOST || page.data?.more}<p class="text-base-content/75 mt-1 text-xs">Not all are shown: search for the others.</p>{/if}
  {/snippet}
</Loaded>
