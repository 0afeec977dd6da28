<script lang="ts">
  import type { Probe } from "../lib/types";
  import Problem from "./Problem.svelte";
  let { probe }: { probe: Probe } = $props();
  const MARKS = { passed: "✓", failed: "✗", "not reached": "·" };
</script>

<ol class="my-1">
  {#each probe.steps as step, index (index)}
    <li class="flex gap-2 {step.state === 'not reached' ? 'text-base-content/75' : ''}">
      <span aria-hidden="true" class="w-3">{MARKS[step.state]}</span>
      <span class="w-20 shrink-0 font-semibold">{step.step}</span>
      <span class="min-w-0 break-words">{step.state === "passed" ? step.detail : step.state}</span>
      {#if step.state === "passed"}
        <span class="text-base-content/75 ml-auto whitespace-nowrap">{Math.round(step.seconds * 1000)} ms</span>
      {/if}
    </li>
  {/each}
</ol>
{#if probe.error}<Problem problem={probe.error} />{/if}
