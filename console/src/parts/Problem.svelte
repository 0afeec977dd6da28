<script lang="ts">
  import EditLines from "./EditLines.svelte";
  import type { Edit, ProblemBody, RunError } from "../lib/types";
  let { problem, apply }: { problem: ProblemBody | RunError; apply?: (edit: Edit) => void } = $props();
  let errors = $derived("errors" in problem ? (problem.errors ?? []) : []);
  let only = $derived(errors.length === 1 ? errors[0]?.edit : undefined);
</script>

<div role="alert" class="border-error/50 bg-error/8 rounded-box border px-3.5 py-2.5">
  <p class="flex gap-2">
    <span aria-hidden="true" class="text-error">✗</span>
    <span class="min-w-0 break-words">
      {problem.detail} <code class="text-base-content/75 text-xs">{problem.code}</code>
    </span>
  </p>
  {#if errors.length > 1}
    <ul class="mt-1 ml-6 list-disc text-sm">
      {#each errors as error, index (index)}
        <li>
          {error.line ? `line ${error.line}: ` : ""}{error.pointer.slice(1).replaceAll("/", ".")}: {error.message}
          {#if error.hint}<span class="text-base-content/75">— {error.hint}</span>{/if}
          {#if error.edit}<EditLines edit={error.edit} {apply} />{/if}
        </li>
      {/each}
    </ul>
  {/if}
  {#if only}<div class="ml-6"><EditLines edit={only} {apply} /></div>{/if}
  {#if problem.hint}<p class="mt-1 ml-6"><span class="font-semibold">Fix:</span> {problem.hint}</p>{/if}
</div>
