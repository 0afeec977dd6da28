<script lang="ts">
  /** The name of an object, which may break between its parts, and not within a word. */
  let { name }: { name: string } = $props();
  let parts = $derived(name.split(/(?<=[:/._,])/));
</script>

{#each parts as part, at (at)}{part}<wbr />{/each}
