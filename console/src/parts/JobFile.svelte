<script lang="ts">
  import type { ProblemBody } from "../lib/types";

  /** A job file to be read or edited; the editor is loaded where one is shown. */
  let {
    text = $bindable(),
    readonly = false,
    problem = null,
  }: { text: string; readonly?: boolean; problem?: ProblemBody | null } = $props();
  const editor = import("./JobEditor.svelte");
</script>

{#await editor}
  <pre class="overflow-x-auto px-4 py-2 font-mono text-[13px] whitespace-pre-wrap" aria-busy="true">{text}</pre>
{:then { default: JobEditor }}
  <JobEditor bind:text {readonly} {problem} />
{/await}
