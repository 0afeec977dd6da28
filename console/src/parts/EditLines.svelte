<!-- A fix as lines of the job file, and a button that writes it. -->
<script lang="ts">
  import type { Edit } from "../lib/types";
  let { edit, apply }: { edit: Edit; apply?: (edit: Edit) => void } = $props();
</script>

<div class="bg-base-200 my-1 flex items-start gap-2 rounded px-2 py-1">
  <pre class="min-w-0 flex-1 overflow-x-auto text-xs leading-5"><span class="text-base-content/75">line {edit.line}</span>
{#each edit.old as line, at (at)}<del class="text-error block no-underline">− {line}</del>{/each}{#each edit.new as line, at (at)}<ins class="text-success block no-underline">+ {line}</ins>{/each}</pre>
  {#if apply}<button class="btn btn-xs" onclick={() => apply(edit)}>Apply fix</button>{/if}
</div>
