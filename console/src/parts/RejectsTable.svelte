<script lang="ts">
  import { get, problemOf } from "../lib/api";
  import { count } from "../lib/format";
  import type { Page, ProblemBody, Reject } from "../lib/types";
  import Problem from "./Problem.svelte";

  let { run, leg, retry }: { run: number; leg?: number; retry?: () => void } = $props();
  const PAUSE = 300;
  const ALL = "\u0000";
  let column = $state(ALL);
  let search = $state("");
  let page = $state<Page<Reject> | null>(null);
  let problem = $state<ProblemBody | null>(null);
  let columns = $state<string[]>([]);
  let asked = $derived.by(() => {
    const parts = new URLSearchParams();
    if (column !== ALL) parts.set("column", column);
    if (search) parts.set("search", search);
    if (leg) parts.set("leg", String(leg));
    return parts.toString();
  });
  // where a row of a table stood says little: its key says which one it is
  let keyed = $derived(!!page?.items.some((one) => one.key));
  function placeOf(reject: Reject): string {
    if (!reject.key) return `row ${count(reject.row)}`;
    return Object.entries(JSON.parse(reject.key) as Record<string, string>).map(([name, value]) => `${name} ${value}`).join(", ");
  }

  $effect(() => {
    const query = asked;
    const waiting = setTimeout(
      async () => {
        try {
          page = await get<Page<Reject>>(`runs/${run}/rejects?page_size=50&${query}`);
          problem = null;
          columns = [...new Set([...columns, ...page.items.map((one) => one.column)])].sort();
        } catch (error) {
          problem = problemOf(error);
        }
      },
      page ? PAUSE : 0,
    );
    return () => clearTimeout(waiting);
  });
</script>

<section class="panel mb-4" data-testid="rejects">
  <h2 class="flex flex-wrap items-center gap-x-3 gap-y-1">
    Rejects
    <select class="select select-xs w-40 font-normal" aria-label="column of the rejects" bind:value={column}>
      <option value={ALL}>every column</option>
      {#each columns as one (one)}<option value={one}>{one || "rows that are not whole"}</option>{/each}
    </select>
    <input class="input input-xs w-44 font-normal" placeholder="search" aria-label="search the rejects" bind:value={search} />
    <span class="ml-auto flex flex-wrap items-center gap-x-3 gap-y-1 font-normal">
      {#if page}<span>{count(page.items.length)} of {count(page.total)}</span>{/if}
      <span>download <a class="plain" href="/api/v1/runs/{run}/rejects.csv?{asked}">CSV</a> · <a class="plain" href="/api/v1/runs/{run}/rejects.jsonl?{asked}">JSON lines</a></span>
      {#if retry}
        <button class="btn btn-xs" onclick={retry} title="read these rows again from their files or table, fixed there or by the job as it is now">▸ Load them again</button>
      {/if}
    </span>
  </h2>
  {#if problem}<Problem {problem} />{/if}
  <div class="max-h-96 overflow-auto">
    <table class="table-sm table">
      <thead><tr>{#if keyed}<th>Row</th>{:else}<th class="num">Row</th><th class="num">Line</th>{/if}<th>Column</th><th>Value</th><th>Reason</th></tr></thead>
      <tbody>
        {#each page?.items ?? [] as reject, index (index)}
          <tr title={reject.record}>
            {#if keyed}
              <td class="max-w-60 truncate font-mono text-xs">{placeOf(reject)}</td>
            {:else}
              <td class="num">{count(reject.row)}</td>
              <td class="num">{count(reject.line)}</td>
            {/if}
            <td>{reject.column || "—"}</td>
            <td class="max-w-60 truncate font-mono text-xs">{reject.value ?? "—"}</td>
            <td>{reject.reason}</td>
          </tr>
        {:else}
          {#if page}<tr><td colspan="5" class="text-base-content/70">No reject is like that.</td></tr>{/if}
        {/each}
      </tbody>
    </table>
  </div>
</section>
