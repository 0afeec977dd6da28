<script lang="ts">
  import { load } from "../../lib/load.svelte";
  import { query } from "../../lib/places";
  import type { Page, RunLine } from "../../lib/types";
  import History from "../History.svelte";
  import Loaded from "../Loaded.svelte";
  import Marks from "../Marks.svelte";
  import RunsTable from "../RunsTable.svelte";

  /** How a job went lately. */
  let { job, marks }: { job: string; marks: boolean } = $props();
  const page = load<Page<RunLine>>(() => `runs${query({ job, page_size: 10 })}`, { every: 5000 });
</script>

<Loaded of={page} lines={4}>{#snippet children(shown)}<RunsTable runs={shown.items} withJob={false} />{/snippet}</Loaded>
{#if marks}<Marks {job} />{/if}
<History {job} />
