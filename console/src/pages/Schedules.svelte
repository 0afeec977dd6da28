<script lang="ts">
  import { onMount } from "svelte";
  import { get, post, problemOf } from "../lib/api";
  import { moment } from "../lib/format";
  import { may } from "../lib/session.svelte";
  import type { Page, ProblemBody, ScheduleLine } from "../lib/types";
  import Problem from "../parts/Problem.svelte";
  import State from "../parts/State.svelte";

  let schedules = $state<ScheduleLine[] | null>(null);
  let problem = $state<ProblemBody | null>(null);
  let pausing = $state("");
  let why = $state("");

  async function doing(action: () => Promise<unknown>) {
    try {
      await action();
      schedules = (await get<Page<ScheduleLine>>("schedules?page_size=200")).items;
      problem = null;
    } catch (error) {
      problem = problemOf(error);
    }
  }
  onMount(() => {
    void doing(async () => {});
    const timer = setInterval(() => void doing(async () => {}), 5000);
    return () => clearInterval(timer);
  });
  async function pause(event: SubmitEvent) {
    event.preventDefault();
    const job = pausing;
    await doing(() => post(`jobs/${encodeURIComponent(job)}/pause`, { why }));
    pausing = why = "";
  }
</script>

<h1 class="mb-3 text-lg font-semibold">Schedules</h1>
{#if problem}<Problem {problem} />{/if}
{#if schedules && !schedules.length}
  <p class="panel px-4 py-6">
    No job is run by itself yet. In a job file: <code>run: &#123;schedule: &#123;cron: "15 2 * * *", timezone: Europe/Zurich&#125;&#125;</code>
  </p>
{:else if schedules}
  <div class="panel overflow-x-auto">
    <table class="table-sm table">
      <thead><tr><th>Job</th><th>Schedule</th><th>Next, in your time</th><th>Last run</th><th>Note</th><th></th></tr></thead>
      <tbody>
        {#each schedules as item (item.job + item.place)}
          <tr>
            <td class="font-semibold whitespace-nowrap"><a class="plain" href="#/jobs/{item.job}">{item.job}</a></td>
            <td class="whitespace-nowrap"><code>{item.cron}</code><div class="text-base-content/70 text-xs">{item.timezone}{#if item.only_if}, for new files only{/if}</div></td>
            <td class="whitespace-nowrap">
              {#if item.paused}<span class="text-warning">■ paused</span>{:else}{moment(item.next[0])}<div class="text-base-content/70 text-xs">then {moment(item.next[1])}</div>{/if}
            </td>
            <td class="whitespace-nowrap">
              {#if item.last_run}<a href="#/runs/{item.last_run.id}" title="run {item.last_run.id}"><State name={item.last_run.state} /></a>{:else}none yet{/if}
            </td>
            <td class="min-w-40 break-words">
              {#if item.paused}{item.paused.by}: {item.paused.why}{:else if item.left_out}{moment(item.last_for)} was left out: {item.left_out}{/if}
            </td>
            <td>
              {#if may("operator") && item.place === 0}
                {#if item.paused}
                  <button class="btn btn-xs" onclick={() => doing(() => post(`jobs/${encodeURIComponent(item.job)}/resume`))}>Resume</button>
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
{/if}
