<script lang="ts">
  import { post, problemOf } from "../lib/api";
  import { load } from "../lib/load.svelte";
  import { api, askPage, connectionPage } from "../lib/places";
  import { may } from "../lib/session.svelte";
  import type { Connection, Page, Probe, ProblemBody } from "../lib/types";
  import Head from "../parts/Head.svelte";
  import Loaded from "../parts/Loaded.svelte";
  import ProbeSteps from "../parts/ProbeSteps.svelte";
  import Problem from "../parts/Problem.svelte";

  const connections = load<Page<Connection>>(() => "connections?page_size=200");
  let probes = $state<Record<string, Probe | "testing">>({});
  let problem = $state<ProblemBody | null>(null);

  async function test(name: string) {
    probes[name] = "testing";
    try {
      probes[name] = await post<Probe>(api(name, "/test"));
    } catch (error) {
      delete probes[name];
      problem = problemOf(error);
    }
  }

  /** What says one connection of a kind from another, on one line; secrets and references by their places. */
  function settings(one: Connection): [string, string][] {
    const shown: [string, string][] = [];
    for (const [key, value] of Object.entries(one.settings)) {
      if (value && typeof value === "object" && !Array.isArray(value)) {
        shown.push([key, (Object.entries(value as Record<string, string>)[0] ?? []).join(" ").replace("from_", "from ")]);
      } else if (typeof value !== "object" && !String(value).includes("\n") && String(value).length < 80) shown.push([key, String(value)]);
    }
    return [...shown, ...one.secrets_set.map((key): [string, string] => [key.replaceAll("_", " "), "sealed"])];
  }
</script>

<Head title="Connections" under="named places to copy from and to">
  {#snippet actions()}{#if may("editor")}<a class="btn btn-sm btn-primary" href="/new-connection">New connection</a>{/if}{/snippet}
</Head>
{#if problem}<div class="mb-3"><Problem {problem} /></div>{/if}
<Loaded of={connections}>
  {#snippet children(page)}
    {#if page.items.length}
      <div class="panel overflow-x-auto">
        <table class="table-sm table">
          <thead><tr><th>Name</th><th>Kind</th><th>Settings</th><th><span class="sr-only">actions</span></th></tr></thead>
          <tbody>
            {#each page.items as one (one.name)}
              {@const probe = probes[one.name]}
              <tr>
                <td class="min-w-32 font-semibold [overflow-wrap:anywhere]"><a class="plain" href={connectionPage(one.name)}>{one.name}</a></td>
                <td class="whitespace-nowrap">{one.kind}</td>
                <td class="w-full min-w-52">
                  {#each settings(one) as [key, value] (key)}
                    <span class="mr-4 inline-block [overflow-wrap:anywhere]"><span class="text-base-content/75">{key}</span> {value}</span>
                  {/each}
                  {#if probe && probe !== "testing"}<div class="mt-2"><ProbeSteps {probe} /></div>{/if}
                </td>
                <td class="num">
                  <a class="btn btn-xs" href={connectionPage(one.name)} aria-label="Look into {one.name}">Look</a>
                  {#if may("operator") && one.holds === "tables"}<a class="btn btn-xs" href={askPage(one.name)} aria-label="Ask {one.name}">Ask</a>{/if}
                  {#if may("operator")}
                    <button class="btn btn-xs" disabled={probe === "testing"} onclick={() => test(one.name)}>
                      {probe === "testing" ? "Testing …" : "Test"}
                    </button>
                  {/if}
                </td>
              </tr>
            {/each}
          </tbody>
        </table>
      </div>
    {:else}
      <div class="panel px-4 py-6">
        <p>No connections yet: name the first place to copy from.</p>
        {#if may("editor")}<p class="mt-2"><a class="btn btn-sm btn-primary" href="/new-connection">New connection</a></p>{/if}
      </div>
    {/if}
  {/snippet}
</Loaded>
