<script lang="ts">
  import { onMount } from "svelte";
  import { get, post, problemOf } from "../lib/api";
  import { api, connectionPage } from "../lib/places";
  import { may } from "../lib/session.svelte";
  import type { Connection, Page, Probe, ProblemBody } from "../lib/types";
  import ProbeSteps from "../parts/ProbeSteps.svelte";
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
      probes[name] = await post<Probe>(api(name, "/test"));
    } catch (error) {
      delete probes[name];
      problem = problemOf(error);
    }
  }

  /** What says one connection of a kind from another, on one line. */
  function place(one: Connection): [string, string][] {
    return Object.entries(one.settings)
      .filter(([, value]) => typeof value !== "object" && !String(value).includes("\n") && String(value).length < 80)
      .map(([key, value]) => [key, String(value)]);
  }
  function references(one: Connection): [string, string][] {
    return Object.entries(one.settings)
      .filter(([, value]) => value && typeof value === "object" && !Array.isArray(value))
      .map(([key, value]) => [key, (Object.entries(value as Record<string, string>)[0] ?? []).join(" ").replace("from_", "from ")]);
  }
</script>

<div class="mb-3 flex items-center gap-3">
  <h1 class="text-lg font-semibold">Connections</h1>
  {#if may("editor")}<a class="btn btn-sm btn-primary ml-auto" href="#/connections/new">New connection</a>{/if}
</div>
{#if problem}<div class="mb-3"><Problem {problem} /></div>{/if}
{#if connections}
  <div class="panel overflow-x-auto">
    <table class="table-sm table">
      <thead><tr><th>Name</th><th>Kind</th><th>Settings</th><th></th></tr></thead>
      <tbody>
        {#each connections as one (one.name)}
          {@const probe = probes[one.name]}
          <tr class="align-top">
            <td class="font-semibold whitespace-nowrap"><a class="plain" href={connectionPage(one.name)}>{one.name}</a></td>
            <td>{one.kind}</td>
            <td class="w-full">
              {#each place(one) as [key, value] (key)}
                <span class="mr-4 inline-block"><span class="text-base-content/60">{key}</span> {value}</span>
              {/each}
              {#each references(one) as [key, value] (key)}
                <span class="mr-4 inline-block"><span class="text-base-content/60">{key}</span> {value}</span>
              {/each}
              {#each one.secrets_set as key (key)}
                <span class="mr-4 inline-block"><span class="text-base-content/60">{key.replaceAll("_", " ")}</span> sealed</span>
              {/each}
              {#if probe && probe !== "testing"}<div class="mt-2"><ProbeSteps {probe} /></div>{/if}
            </td>
            <td class="num">
              <a class="btn btn-xs" href={connectionPage(one.name)}>Look</a>
              {#if may("operator")}
                <button class="btn btn-xs" disabled={probe === "testing"} onclick={() => test(one.name)}>
                  {probe === "testing" ? "Testing …" : "Test"}
                </button>
              {/if}
            </td>
          </tr>
        {:else}
          <tr><td colspan="4">No connections yet: name the first place to copy from.</td></tr>
        {/each}
      </tbody>
    </table>
  </div>
{/if}
