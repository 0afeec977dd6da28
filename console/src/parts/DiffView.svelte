<script lang="ts">
  import { differences } from "../lib/changes";

  /** What differs between two texts, line by line. */
  let { before, after, label = "changes" }: { before: string; after: string; label?: string } = $props();
  const LOOKS = { "+": "bg-success/15", "-": "bg-error/15", " ": "", "…": "text-base-content/75" };
  const SAID = { "+": "new: ", "-": "gone: ", " ": "", "…": "" };
  let lines = $derived(differences(before, after));
</script>

{#if lines.length}
  <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
  <div class="overflow-auto font-mono text-xs" tabindex="0" role="region" aria-label={label} data-testid="diff">
    {#each lines as line, place (place)}<div class="min-w-max px-3 whitespace-pre {LOOKS[line.sign]}"><span aria-hidden="true" class="inline-block w-4">{line.sign}</span><span class="sr-only">{SAID[line.sign]}</span>{line.text}</div>{/each}
  </div>
{:else}
  <p class="text-base-content/75 px-3 py-1 text-sm">Nothing differs.</p>
{/if}
