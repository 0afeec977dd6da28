<script lang="ts" generics="T">
  import type { Snippet } from "svelte";

  /**
   * A table of many rows, of which only those in view are in the page. `height` is that of a row, in pixels; `row` gives a tr of it. The row
   * `at` is kept in view.
   */
  let {
    items,
    head,
    row,
    columns,
    height = 28,
    tall = "28rem",
    label,
    at = -1,
    empty = "Nothing here.",
    testid,
  }: {
    items: readonly T[];
    head: Snippet;
    row: Snippet<[T, number]>;
    columns: number;
    height?: number;
    tall?: string;
    label: string;
    at?: number;
    empty?: string;
    testid?: string;
  } = $props();
  const MORE = 8;
  let port: HTMLElement;
  let top = $state(0);
  let seen = $state(400);
  let first = $derived(Math.max(0, Math.min(Math.floor(top / height) - MORE, items.length)));
  let last = $derived(Math.min(items.length, Math.ceil((top + seen) / height) + MORE));

  $effect(() => {
    if (at < 0 || !port) return;
    const above = at * height;
    if (above < port.scrollTop) port.scrollTop = above;
    else if (above + 2 * height > port.scrollTop + port.clientHeight) port.scrollTop = above + 2 * height - port.clientHeight;
  });
</script>

<!-- svelte-ignore a11y_no_noninteractive_tabindex -->
<div bind:this={port} bind:clientHeight={seen} class="overflow-auto" style="max-height: {tall}" tabindex="0" role="region" aria-label={label} onscroll={() => (top = port.scrollTop)}>
  <table class="table-xs table" data-testid={testid} aria-rowcount={items.length}>
    <thead class="bg-base-100 sticky top-0 z-10">{@render head()}</thead>
    <tbody>
      {#if first}<tr aria-hidden="true"><td colspan={columns} style="height: {first * height}px; padding: 0"></td></tr>{/if}
      {#each items.slice(first, last) as item, place (first + place)}{@render row(item, first + place)}{/each}
      {#if last < items.length}<tr aria-hidden="true"><td colspan={columns} style="height: {(items.length - last) * height}px; padding: 0"></td></tr>{/if}
      {#if !items.length}<tr><td colspan={columns} class="text-base-content/75">{empty}</td></tr>{/if}
    </tbody>
  </table>
</div>
