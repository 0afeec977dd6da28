<script lang="ts">
  import { exchangeBytes, problemOf } from "../lib/api";
  import { bytes } from "../lib/format";
  import { lookPage } from "../lib/places";
  import { go } from "../lib/router.svelte";
  import type { ProblemBody } from "../lib/types";
  import Problem from "./Problem.svelte";

  let { done }: { done: () => void } = $props();
  let sending = $state("");
  let over = $state(false);
  let problem = $state<ProblemBody | null>(null);

  async function send(files: FileList | null | undefined) {
    const given = [...(files ?? [])];
    problem = null;
    for (const file of given) {
      sending = `${file.name}, ${bytes(file.size)}`;
      try {
        await exchangeBytes(`uploads/${encodeURIComponent(file.name)}`, file);
      } catch (error) {
        problem = problemOf(error);
        break;
      }
    }
    sending = "";
    const only = given.length === 1 ? given[0] : undefined;
    if (!problem && only) go(lookPage("uploads", only.name));
    else done();
  }
</script>

<label
  class="rounded-box mb-3 flex cursor-pointer flex-col items-center border border-dashed px-4 py-5 text-center {over
    ? 'border-primary bg-primary/10'
    : 'border-base-300'}"
  ondragover={(event) => {
    event.preventDefault();
    over = true;
  }}
  ondragleave={() => (over = false)}
  ondrop={(event) => {
    event.preventDefault();
    over = false;
    send(event.dataTransfer?.files);
  }}
>
  <span>{sending ? `Sending ${sending} …` : "Drop files here, or choose them"}</span>
  <input
    type="file"
    multiple
    class="file-input file-input-sm mt-2"
    aria-label="Files to upload"
    disabled={!!sending}
    onchange={(event) => send(event.currentTarget.files)}
  />
</label>
{#if problem}<div class="mb-3"><Problem {problem} /></div>{/if}
