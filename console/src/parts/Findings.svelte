<script lang="ts">
  import EditLines from "./EditLines.svelte";
  import type { Edit, Finding } from "../lib/types";
  let { findings, apply }: { findings: Finding[]; apply?: (edit: Edit) => void } = $props();
  const LOOKS = { error: ["✗", "text-error"], warning: ["!", "text-warning"], note: ["·", "text-base-content/75"] };
</script>

<ul class="divide-base-300 divide-y">
  {#each findings as finding, index (index)}
    <li class="flex gap-2 py-1.5">
      <span aria-hidden="true" class="w-3 text-center font-bold {LOOKS[finding.severity][1]}">{LOOKS[finding.severity][0]}</span>
      <div class="min-w-0">
        <span class="font-semibold">{finding.severity}</span>
        {finding.message}
        <code class="text-base-content/75 text-xs">{finding.code}{finding.place ? `, ${finding.place}` : ""}</code>
        {#if finding.fix}<div><span class="font-semibold">Fix:</span> {finding.fix}</div>{/if}
        {#if finding.edit}<EditLines edit={finding.edit} {apply} />{/if}
      </div>
    </li>
  {/each}
</ul>
