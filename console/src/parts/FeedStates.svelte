<script lang="ts">
  import { count } from "../lib/format";

  /** How many files of a feed there are, by their state: a sign and a word, or the sign alone. */
  let { files, short = false }: { files: Record<string, number>; short?: boolean } = $props();
  const LOOKS: Record<string, [string, string]> = {
    loaded: ["✓", "text-success"],
    found: ["○", "text-base-content/75"],
    failed: ["✗", "text-error"],
    unmatched: ["?", "text-warning"],
    disputed: ["≠", "text-warning"],
  };
</script>

{#each Object.entries(files) as [state, number] (state)}
  <span class="mr-2 whitespace-nowrap {LOOKS[state]?.[1]}" title="{count(number)} {state}"><span aria-hidden="true">{LOOKS[state]?.[0]}</span> {count(number)}<span class={short ? "sr-only" : ""}>{` ${state}`}</span></span>
{/each}
