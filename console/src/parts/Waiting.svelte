<script lang="ts">
  /** The grey shape of what is not there yet. */
  let { lines = 6 }: { lines?: number } = $props();
</script>

<div class="panel p-3" role="status" aria-label="loading">
  {#each { length: lines }, line (line)}<div class="bg-base-300/60 my-2 h-4 animate-pulse rounded-sm" style="width: {90 - ((line * 17) % 40)}%"></div>{/each}
</div>
