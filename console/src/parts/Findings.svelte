<script lang="ts">
  import type { Edit, Finding } from "../lib/types";
  let { findings, apply }: { findings: Finding[]; apply?: (edit: Edit) => void } = $props();
  const LOOKS = { error: ["✗", "text-error"], warning: ["!", "text-warning"], note: ["·", "text-base-content/60"] };
</script>

<ul class="divide-base-300 divide-y">
  {#each findings as finding, index (index)}
    <li class="flex gap-2 py-1.5">
      <span aria-hidden="true" class="w-3 text-center font-bold {LOOKS[finding.severity][1]}">{LOOKS[finding.severity][0]}</span>
      <div class="min-w-0">
        <span class="font-semibold">{finding.severity}</span>
        {finding.message}
        <code class="text-base-content/60 text-xs">{finding.code}{finding.place ? `, ${finding.place}` : ""}</code>
        {#if finding.fix}<div><span class="font-semibold">Fix:</span> {finding.fix}</div>{/if}
        {#if finding.edit}
          {@const edit = finding.edit}
          <div class="bg-base-200 my-1 flex items-start gap-2 rounded px-2 py-1">
            <pre class="min-w-0 flex-1 overflow-x-auto text-xs leading-5"><span class="text-base-content/60">line {edit.line}</span>
{#each edit.old as line, at (at)}<del class="text-error block no-underline">− {line}</del>{/each}{#each edit.new as line, at (at)}<ins class="text-success block no-underline">+ {line}</ins>{/each}</pre>
            {#if apply}<button class="btn btn-xs" onclick={() => apply(edit)}>Apply fix</button>{/if}
          </div>
        {/if}
      </div>
    </li>
  {/each}
</ul>
