<script lang="ts" generics="T">
  import type { Snippet } from "svelte";
  import type { Loading } from "../lib/load.svelte";
  import Problem from "./Problem.svelte";
  import Waiting from "./Waiting.svelte";

  /** What was loaded; until it is there a grey shape of it, and where it cannot be had the reason, with a way on. */
  let { of, lines = 6, children }: { of: Loading<T>; lines?: number; children: Snippet<[T]> } = $props();
</script>

{#if of.problem}
  <div class="mb-3">
    <Problem problem={of.problem} />
    {#if of.problem.status === 0 || of.problem.status >= 500}
      <button class="btn btn-sm mt-2" onclick={of.again} disabled={of.busy}>{of.busy ? "Trying …" : "Try again"}</button>
    {/if}
  </div>
{/if}
{#if of.data !== undefined}
  <div aria-busy={of.busy} class="contents">{@render children(of.data)}</div>
{:else if !of.problem}
  <Waiting {lines} />
{/if}
