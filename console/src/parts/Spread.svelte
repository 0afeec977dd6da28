<script lang="ts">
  import { count } from "../lib/format";
  import type { ValueCounts } from "../lib/types";

  /** How values are spread over their range: a bar for each part of it. */
  let { bins, name }: { bins: NonNullable<ValueCounts["bins"]>; name: string } = $props();
  let most = $derived(Math.max(1, ...bins.map((one) => one.count)));
  let said = $derived(bins.map((one) => `${one.low} to ${one.high}: ${count(one.count)}`).join("; "));
</script>

<div class="flex h-6 w-32 items-end gap-px" role="img" aria-label="spread of {name}: {said}">
  {#each bins as bin, place (place)}
    <span class="bg-primary/70 flex-1" style="height: {bin.count ? Math.max(6, (100 * bin.count) / most) : 0}%" title="{bin.low} to {bin.high}: {count(bin.count)}"></span>
  {/each}
</div>
