<script lang="ts">
  import { exchange, get, problemOf } from "../lib/api";
  import { count } from "../lib/format";
  import { may } from "../lib/session.svelte";
  import type { Mark, ProblemBody } from "../lib/types";
  import Problem from "./Problem.svelte";

  /** How far a job that copies only what is new has come, as its target says; asked when it is opened. */
  let { job }: { job: string } = $props();
  let marks = $state<Mark[] | null>(null);
  let problem = $state<ProblemBody | null>(null);
  let path = $derived(`jobs/${encodeURIComponent(job)}/marks`);

  async function asking(action: () => Promise<Mark[]>) {
    try {
      const changed = await action();
      const by = new Map(changed.map((one) => [one.object, one]));
      marks = marks ? marks.map((one) => by.get(one.object) ?? one) : changed;
      problem = null;
    } catch (error) {
      problem = problemOf(error);
    }
  }
  const load = () => void (marks ?? asking(() => get<Mark[]>(path)));
  function reset(mark: Mark) {
    if (!confirm(`Forget how far ${job} has copied ${mark.object}? The next run copies all there is.`)) return;
    void asking(async () => (await exchange<Mark[]>("DELETE", `${path}?object=${encodeURIComponent(mark.object)}`)).data);
  }
  function set(mark: Mark) {
    const value = prompt(`Begin the next run of ${mark.object} above which ${mark.column}?`, mark.value);
    if (value) void asking(async () => (await exchange<Mark[]>("PUT", path, { json: { object: mark.object, value } })).data);
  }
</script>

<details class="px-3.5 py-1.5" ontoggle={load} data-testid="marks">
  <summary class="cursor-pointer">How far it has copied</summary>
  {#if problem}<div class="my-1.5"><Problem {problem} /></div>{/if}
  {#if marks}
    <div class="overflow-x-auto">
      <table class="table-sm table">
        <thead><tr><th>Object</th><th>Mark</th><th></th></tr></thead>
        <tbody>
          {#each marks as mark (mark.object)}
            <tr>
              <td class="[overflow-wrap:anywhere]">{mark.object}</td>
              <td class="tabular-nums">{#if mark.column}{mark.column}: {mark.value || "none yet"}{:else}{count(mark.files)} files{/if}</td>
              <td class="whitespace-nowrap">
                {#if may("operator")}
                  {#if mark.column}<button class="btn btn-xs" onclick={() => set(mark)}>Set</button>{/if}
                  <button class="btn btn-xs" onclick={() => reset(mark)}>Reset</button>
                {/if}
              </td>
            </tr>
          {/each}
        </tbody>
      </table>
    </div>
  {/if}
</details>
