<script lang="ts">
  import { post } from "../lib/api";
  import { moment } from "../lib/format";
  import { Doing, load } from "../lib/load.svelte";
  import { may } from "../lib/session.svelte";
  import type { Page, ScheduleLine } from "../lib/types";
  import Head from "../parts/Head.svelte";
  import Loaded from "../parts/Loaded.svelte";
  import Problem from "../parts/Problem.svelte";
  import State from "../parts/State.svelte";

  const schedules = load<Page<ScheduleLine>>(() => "schedules?page_size=200", { every: 5000 });
  const doing = new Doing();
  let pausing = $state("");
  let why = $state("");

  const act = (what: string, path: string, body?: unknown) => doing.do(what, () => post(path, body)).then(schedules.again);
  async function pause(event: SubmitEvent) {
    event.preventDefault();
    await act("pause", `jobs/${encodeURIComponent(pausing)}/pause`, { why });
    pausing = why = "";
  }
</script>

<Head title="Schedules" under="when jobs are run by themselves" />
{#if doing.problem}<div class="mb-3"><Problem problem={doing.problem} /></div>{/if}
<Loaded of={schedules}>
  {#snippet children(page)}
    {#if page.items.length}
      <div class="panel overflow-x-auto">
        <table class="table-sm table">
          <thead><tr><th>Job</th><th>Schedule</th><th>Next, in your time</th><th>Last run</th><th>Note</th><th><span class="sr-only">actions</span></th></tr></thead>
          <tbody>
            {#each page.items as item (item.job + item.place)}
              <tr>
                <td class="min-w-32 font-semibold [overflow-wrap:anywhere]"><a class="plain" href="/jobs/{item.job}">{item.job}</a></td>
                <td class="whitespace-nowrap"><code>{item.cron}</code><div class="text-base-content/75 text-xs">{item.timezone}{#if item.only_if}, for new files only{/if}</div></td>
                <td class="whitespace-nowrap">
                  {#if item.paused}<span class="text-warning">■ paused</span>{:else}{moment(item.next[0])}<div class="text-base-content/75 text-xs">then {moment(item.next[1])}</div>{/if}
                </td>
                <td class="whitespace-nowrap">
                  {#if item.last_run}<a href="/runs/{item.last_run.id}" title="run {item.last_run.id}"><State name={item.last_run.state} /></a>{:else}none yet{/if}
                </td>
                <td class="min-w-40 [overflow-wrap:anywhere]">
                  {#if item.paused}{item.paused.by}: {item.paused.why}{:else if item.left_out}{moment(item.last_for)} was left out: {item.left_out}{/if}
                </td>
                <td>
                  {#if may("operator") && item.place === 0}
                    {#if item.paused}
                      <button class="btn btn-xs" aria-label="Resume {item.job}" disabled={!!doing.what} onclick={() => act("resume", `jobs/${encodeURIComponent(item.job)}/resume`)}>Resume</button>
                    {:else if pausing === item.job}
                      <form class="flex gap-1" onsubmit={pause}>
                        <!-- svelte-ignore a11y_autofocus -->
                        <input class="input input-xs w-40" placeholder="why" aria-label="Why {item.job} is paused" required autofocus bind:value={why} />
                        <button class="btn btn-xs">Pause</button>
                      </form>
                    {:else}
                      <button class="btn btn-xs" aria-label="Pause {item.job}" onclick={() => (pausing = item.job)}>Pause…</button>
                    {/if}
                  {/if}
                </td>
              </tr>
            {/each}
          </tbody>
        </table>
      </div>
    {:else}
      <p class="panel px-4 py-6">No job is run by itself yet: open a <a class="plain" href="/jobs">job</a>, and set its schedule under <em>How it runs</em>.</p>
    {/if}
  {/snippet}
</Loaded>
