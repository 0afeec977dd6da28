<script lang="ts">
  import { bytes, count, moment } from "../lib/format";
  import { load } from "../lib/load.svelte";
  import { api, jobPage, lookPage, mapPage } from "../lib/places";
  import type { JobMap, ObjectPage, StoredObject } from "../lib/types";
  import Loaded from "./Loaded.svelte";
  import State from "./State.svelte";

  /** What a connection holds: by schemas or folders, with sizes, ages and the jobs that read or write each object. */
  let { connection, holdsFiles, inside = "" }: { connection: string; holdsFiles: boolean; inside?: string } = $props();
  let typed = $state("");
  let after = $state<string[]>([]);
  const PATTERN = /[*?[]/;
  let isPattern = $derived(holdsFiles && PATTERN.test(typed));
  const page = load<ObjectPage>(
    () => api(connection, "/objects", { [isPattern ? "pattern" : "search"]: typed.trim(), after: after.at(-1) ?? "", inside, ...(inside ? { limit: 200 } : { alike: true, limit: holdsFiles ? 2000 : 200 }) }),
    { rest: 200 },
  );
  const map = load<JobMap>(() => (inside ? null : "map"));

  type Line = StoredObject & { short: string };
  interface Group {
    name: string;
    lines: Line[];
  }
  /** Objects by the schema or folder that they are in. */
  let groups = $derived.by(() => {
    const found = new Map<string, Line[]>();
    for (const one of page.data?.items ?? []) {
      const at = holdsFiles ? one.name.lastIndexOf("/") : one.name.indexOf(".");
      const where = inside || at < 0 ? "" : one.name.slice(0, at);
      found.set(where, [...(found.get(where) ?? []), { ...one, short: where ? one.name.slice(at + 1) : one.name }]);
    }
    return [...found].map(([name, lines]): Group => ({ name, lines })).sort((a, b) => a.name.localeCompare(b.name));
  });
  let sized = $derived((page.data?.items ?? []).some((one) => one.size !== undefined && one.size !== null));
  let aged = $derived((page.data?.items ?? []).some((one) => one.modified));
  let counted = $derived((page.data?.items ?? []).some((one) => one.rows !== undefined && one.rows !== null));
  let commented = $derived((page.data?.items ?? []).some((one) => one.comment));

  interface Use {
    job: string;
    writes: boolean;
    state: string;
    at: string | null;
  }
  /** The jobs of each object, by its name here: those that write it first. */
  let uses = $derived.by(() => {
    const found = new Map<string, Use[]>();
    const same = new Map((map.data?.same ?? []).map(([written, read]) => [written, read]));
    for (const job of map.data?.jobs ?? []) {
      for (const [ids, writes] of [[job.writes, true], [job.reads, false]] as const) {
        for (const id of ids) {
          for (const one of [id, same.get(id)]) {
            if (one?.startsWith(`${connection}:`)) found.set(one.slice(connection.length + 1), [...(found.get(one.slice(connection.length + 1)) ?? []), { job: job.name, writes, state: job.state, at: job.at }]);
          }
        }
      }
    }
    for (const one of found.values()) one.sort((a, b) => Number(b.writes) - Number(a.writes));
    return found;
  });
  // a table may be named with its schema or without
  const usesOf = (one: Line) => uses.get(one.name) ?? uses.get(one.short) ?? [];
  const address = (one: StoredObject) => lookPage(connection, one.kind === "sheet" ? `${inside}#${one.name}` : one.name);
  const idOf = (one: Line) => `${connection}:${uses.has(one.name) ? one.name : one.short}`;
</script>

<div class="mb-2 flex flex-wrap items-center gap-2">
  <label class="sr-only" for="object-search">Search</label>
  <input
    id="object-search"
    class="input input-sm w-full max-w-md"
    type="search"
    placeholder={holdsFiles ? "search, or a pattern: june/**/*.csv" : "search tables"}
    bind:value={typed}
    oninput={() => (after = [])}
  />
  {#if isPattern && (page.data?.items.length ?? 0) > 0}
    <a class="btn btn-sm" href={lookPage(connection, typed.trim())}>Look at all of them as one</a>
  {/if}
</div>
<Loaded of={page}>
  {#snippet children(shown)}
    {#if shown.items.length}
      <div class="overflow-x-auto">
        <table class="table-sm table">
          <thead>
            <tr><th>Name</th>{#if !holdsFiles && !inside}<th>Kind</th>{/if}{#if counted}<th class="num">Rows, about</th>{/if}{#if sized}<th class="num">Size</th>{/if}{#if aged}<th>Changed</th>{/if}{#if uses.size}<th>Jobs</th>{/if}{#if commented}<th>Comment</th>{/if}</tr>
          </thead>
          {#each groups as group (group.name)}
            <tbody>
              {#if group.name && (groups.length > 1 || holdsFiles)}
                <tr><th colspan="7" class="bg-base-200 text-base-content/80">{group.name}{holdsFiles ? "/" : ""}</th></tr>
              {/if}
              {#each group.lines as one (one.name)}
                {@const jobs = usesOf(one)}
                <tr>
                  <td class="min-w-48 [overflow-wrap:anywhere] {group.name && groups.length > 1 ? 'pl-6' : ''}">
                    <a class="plain" href={address(one)} aria-label={one.name}>{one.short}</a>
                    {#if one.files}<span class="text-base-content/75 ml-1.5 text-xs">{count(one.files)} files</span>{/if}
                  </td>
                  {#if !holdsFiles && !inside}<td>{one.kind}</td>{/if}
                  {#if counted}<td class="num">{one.rows === null || one.rows === undefined ? "" : count(one.rows)}</td>{/if}
                  {#if sized}<td class="num">{one.size === null || one.size === undefined ? "" : bytes(one.size)}</td>{/if}
                  {#if aged}<td class="whitespace-nowrap">{one.modified ? moment(one.modified) : ""}</td>{/if}
                  {#if uses.size}
                    <td class="min-w-40 text-xs">
                      {#each jobs.slice(0, 3) as use (use.job + use.writes)}
                        <div class="flex flex-wrap items-baseline gap-x-1.5"><span title={use.writes ? "written by" : "read by"} aria-label={use.writes ? "written by" : "read by"}>{use.writes ? "←" : "→"}</span><a class="plain" href={jobPage(use.job)}>{use.job}</a>{#if use.state}<State name={use.state} />{/if}{#if use.writes && use.at}<span class="text-base-content/75">{moment(use.at).slice(0, 16)}</span>{/if}</div>
                      {/each}
                      {#if jobs.length > 3}<a class="plain" href={mapPage(idOf(one))}>and {jobs.length - 3} more</a>{/if}
                    </td>
                  {/if}
                  {#if commented}<td class="text-base-content/75 min-w-40">{one.comment ?? ""}</td>{/if}
                </tr>
              {/each}
            </tbody>
          {/each}
        </table>
      </div>
      {#if shown.next || after.length}
        <div class="mt-2 flex gap-2">
          <button class="btn btn-sm" disabled={!after.length} onclick={() => (after = after.slice(0, -1))}>Before</button>
          <button class="btn btn-sm" disabled={!shown.next} onclick={() => (after = [...after, shown.next ?? ""])}>More</button>
        </div>
      {/if}
    {:else}
      <p class="text-base-content/75 py-3">{typed ? "Nothing of that name." : "Nothing here yet."}</p>
    {/if}
  {/snippet}
</Loaded>
