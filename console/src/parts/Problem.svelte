<script lang="ts">
  import type { ProblemBody, RunError } from "../lib/types";
  let { problem }: { problem: ProblemBody | RunError } = $props();
  let errors = $derived("errors" in problem ? (problem.errors ?? []) : []);
</script>

<div role="alert" class="border-error/50 bg-error/8 rounded-box border px-3.5 py-2.5">
  <p class="flex gap-2">
    <span aria-hidden="true" class="text-error">✗</span>
    <span class="min-w-0 break-words">
      {problem.detail} <code class="text-base-content/60 text-xs">{problem.code}</code>
    </span>
  </p>
  {#if errors.length > 1}
    <ul class="mt-1 ml-6 list-disc text-sm">
      {#each errors as error, index (index)}
        <li>
          {error.line ? `line ${error.line}: ` : ""}{error.pointer.slice(1).replaceAll("/", ".")}: {error.message}
          {#if error.hint}<span class="text-base-content/70">— {error.hint}</span>{/if}
        </li>
      {/each}
    </ul>
  {/if}
  {#if problem.hint}<p class="mt-1 ml-6"><span class="font-semibold">Fix:</span> {problem.hint}</p>{/if}
</div>
