<script lang="ts">
  import { onMount } from "svelte";
  import { get, post, problemOf } from "../lib/api";
  import { may } from "../lib/session.svelte";
  import type { Connection, Page, Probe, ProblemBody } from "../lib/types";
  import Problem from "../parts/Problem.svelte";

  let connections = $state<Connection[] | null>(null);
  let probes = $state<Record<string, Probe | "testing">>({});
  let problem = $state<ProblemBody | null>(null);

  onMount(async () => {
    try {
      connections = (await get<Page<Connection>>("connections?page_size=200")).items;
    } catch (error) {
      problem = problemOf(error);
    }
  });

  async function test(name: string) {
    probes[name] = "testing";
    try {
      probes[name] = await post<Probe>(`connections/${encodeURIComponent(name)}/test`);
    } catch (error) {
      delete probes[name];
      problem = problemOf(error);
    }
  }
</script>

<h1 class="mb-3 text-lg font-semibold">Connections</h1>
{#if problem}<div class="mb-3"><Problem {problem} /></div>{/if}
{#if connections}
  <div class="panel overflow-x-auto">
    <table class="table-sm table">
      <thead><tr><th>Name</th><th>Kind</th><th>Settings</th><th></th></tr></thead>
      <tbody>
        {#each connections as one (one.name)}
          {@const probe = probes[one.name]}
          <tr class="align-top">
            <td class="font-semibold">{one.name}</td>
            <td>{one.kind}</td>
            <td class="w-full">
              {#each Object.entries(one.settings) as [key, value] (key)}
                <span class="mr-4 whitespace-nowrap"><span class="text-base-content/60">{key}</span> {value}</span>
              {/each}
              {#each one.secrets_set as key (key)}
                <span class="mr-4 whitespace-nowrap"><span class="text-base-content/60">{key}</span> sealed</span>
              {/each}
              {#if probe && probe !== "testing"}
                <ul class="mt-2 mb-1">
                  {#each probe.steps as step, index (index)}
                    <li class={step.state === "not reached" ? "text-base-content/60" : ""}>
                      <span aria-hidden="true">{step.state === "passed" ? "✓" : step.state === "failed" ? "✗" : "·"}</span>
                      {step.step}: {step.state === "passed" ? step.detail : step.state}
                    </li>
                  {/each}
                </ul>
                {#if probe.error}<Problem problem={probe.error} />{/if}
              {/if}
            </td>
            <td class="num">
              {#if may("operator")}
                <button class="btn btn-xs" disabled={probe === "testing"} onclick={() => test(one.name)}>
                  {probe === "testing" ? "Testing …" : "Test"}
                </button>
              {/if}
            </td>
          </tr>
        {:else}
          <tr><td colspan="4">No connections yet. Add one: <code>ultravect connection add NAME KIND KEY=VALUE…</code></td></tr>
        {/each}
      </tbody>
    </table>
  </div>
{/if}
