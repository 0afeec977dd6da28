<script lang="ts">
  import { get, problemOf } from "../lib/api";
  import { bytes, count, moment } from "../lib/format";
  import { api, lookPage } from "../lib/places";
  import type { ObjectPage, ProblemBody, StoredObject } from "../lib/types";
  import Problem from "./Problem.svelte";

  let { connection, holdsFiles, inside = "" }: { connection: string; holdsFiles: boolean; inside?: string } = $props();
  let search = $state("");
  let items = $state<StoredObject[]>([]);
  let next = $state<string | null>(null);
  let loading = $state(true);
  let problem = $state<ProblemBody | null>(null);
  let asked = 0;

  async function load(after: string) {
    const mine = ++asked;
    loading = true;
    const pattern = holdsFiles && /[*?[]/.test(search);
    try {
      const query = { [pattern ? "pattern" : "search"]: search, after, inside, limit: 100 };
      const page = await get<ObjectPage>(api(connection, "/objects", query));
      if (mine !== asked) return;
      items = after ? [...items, ...page.items] : page.items;
      next = page.next;
      problem = null;
    } catch (error) {
      if (mine === asked) problem = problemOf(error);
    }
    if (mine === asked) loading = false;
  }
  let timer: ReturnType<typeof setTimeout> | undefined;
  $effect(() => {
    void search;
    clearTimeout(timer);
    timer = setTimeout(() => load(""), 150);
    return () => clearTimeout(timer);
  });
  const address = (one: StoredObject) => lookPage(connection, one.kind === "sheet" ? `${inside}#${one.name}` : one.name);
</script>

<label class="sr-only" for="object-search">Search</label>
<input
  id="object-search"
  class="input input-sm mb-2 w-full max-w-md"
  placeholder={holdsFiles ? "search, or a pattern: june/**/*.csv" : "search tables"}
  bind:value={search}
/>
{#if holdsFiles && /[*?[]/.test(search) && items.length > 1}
  <a class="btn btn-sm ml-2" href={lookPage(connection, search)}>Look at all of them as one</a>
{/if}
{#if problem}<Problem {problem} />{/if}
<div class="max-h-[34rem] overflow-auto" aria-busy={loading}>
  <table class="table-sm table">
    <tbody>
      {#each items as one (one.name)}
        <tr>
          <td class="min-w-48 {"size" in one ? "w-full" : ""} [overflow-wrap:anywhere]"><a class="plain" href={address(one)}>{one.name}</a></td>
          {#if "size" in one}
            <td class="num">{one.size === null ? "" : bytes(one.size)}</td>
            <td class="text-base-content/70 whitespace-nowrap">{one.modified ? moment(one.modified) : ""}</td>
          {:else if one.kind !== "sheet"}
            <td class="text-base-content/70">{one.kind}</td>
            <td class="num">{one.rows === null || one.rows === undefined ? "" : `about ${count(one.rows)} rows`}</td>
            <td class="text-base-content/70 min-w-40">{one.comment ?? ""}</td>
          {/if}
        </tr>
      {:else}
        <tr><td>{loading ? "…" : search ? "Nothing of that name." : "Nothing here yet."}</td></tr>
      {/each}
    </tbody>
  </table>
  {#if next}<button class="btn btn-sm mt-2" onclick={() => load(next ?? "")}>More</button>{/if}
</div>
