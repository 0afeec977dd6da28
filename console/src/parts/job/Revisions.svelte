<script lang="ts">
  import { moment } from "../../lib/format";
  import { load } from "../../lib/load.svelte";
  import type { Page, Revision } from "../../lib/types";
  import DiffView from "../DiffView.svelte";
  import Loaded from "../Loaded.svelte";

  /** All that was saved of a job: compared with each other or with what is in the editor, and put back into it. */
  let { job, revision, text, restore, readonly }: { job: string; revision: number; text: string; restore: (text: string) => void; readonly: boolean } = $props();
  const HERE = 0;
  const page = load<Page<Revision>>(() => {
    void revision; // another one was saved
    return `jobs/${encodeURIComponent(job)}/revisions?page_size=200`;
  });
  let from = $state<number | null>(null);
  let to = $state(HERE);
  let known = $derived(new Map((page.data?.items ?? []).map((one) => [one.number, one.file])));
  let first = $derived(from ?? revision);
  const textOf = (number: number) => (number === HERE ? text : (known.get(number) ?? ""));
</script>

<Loaded of={page} lines={3}>
  {#snippet children(shown)}
    <div class="grid items-start gap-x-3 lg:grid-cols-[17rem_minmax(0,1fr)]">
      <table class="table-xs table">
        <thead><tr><th>Revision</th><th>Saved</th><th>By</th><th><span class="sr-only">actions</span></th></tr></thead>
        <tbody>
          {#each shown.items as one (one.number)}
            <tr class={one.number === first ? "bg-base-200" : ""}>
              <td><button class="plain cursor-pointer" aria-label="compare revision {one.number}" onclick={() => ([from, to] = [one.number, HERE])}>{one.number}</button></td>
              <td class="whitespace-nowrap">{moment(one.saved_at).slice(0, 16)}</td>
              <td class="[overflow-wrap:anywhere]">{one.saved_by ?? "—"}</td>
              <td>{#if !readonly}<button class="btn btn-xs" title="put it into the editor; it is saved when you save" aria-label="restore revision {one.number}" onclick={() => restore(one.file)}>Restore</button>{/if}</td>
            </tr>
          {/each}
        </tbody>
      </table>
      <div class="min-w-0 py-1">
        <p class="flex flex-wrap items-center gap-2 px-3 pb-1 text-sm">
          From
          <select class="select select-xs w-28" aria-label="from revision" value={first} onchange={(event) => (from = Number(event.currentTarget.value))}>{#each shown.items as one (one.number)}<option value={one.number}>revision {one.number}</option>{/each}</select>
          to
          <select class="select select-xs w-36" aria-label="to revision" bind:value={to}><option value={HERE}>what is in the editor</option>{#each shown.items as one (one.number)}<option value={one.number}>revision {one.number}</option>{/each}</select>
        </p>
        <DiffView before={textOf(first)} after={textOf(to)} label="what differs" />
      </div>
    </div>
  {/snippet}
</Loaded>
