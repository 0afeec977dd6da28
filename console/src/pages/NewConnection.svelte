<script lang="ts">
  import { onMount } from "svelte";
  import { exchange, get, problemOf } from "../lib/api";
  import { connectionPage } from "../lib/places";
  import { go } from "../lib/router.svelte";
  import type { Schema } from "../lib/schema";
  import type { ProblemBody } from "../lib/types";
  import Problem from "../parts/Problem.svelte";
  import SchemaForm from "../parts/SchemaForm.svelte";

  let kinds = $state<Record<string, Schema>>({});
  let kind = $state("postgresql");
  let schema = $derived(kinds[kind]);
  let name = $state("");
  let site = $state("");
  let atMost = $state<number | null>(null);
  let values = $state<Record<string, unknown>>({});
  let problem = $state<ProblemBody | null>(null);
  let saving = $state(false);

  onMount(async () => {
    try {
      kinds = await get<Record<string, Schema>>("kinds");
    } catch (error) {
      problem = problemOf(error);
    }
  });

  async function add(event: SubmitEvent) {
    event.preventDefault();
    saving = true;
    problem = null;
    try {
      await exchange("POST", "connections", { json: { name, kind, site, at_most: atMost, settings: values } });
      go(connectionPage(name).slice(1));
    } catch (error) {
      problem = problemOf(error);
    }
    saving = false;
  }
</script>

<h1 class="mb-3 text-lg font-semibold">New connection</h1>
<form class="panel max-w-3xl p-4" onsubmit={add}>
  <div class="mb-4 grid grid-cols-[minmax(6rem,auto)_1fr] items-center gap-x-3 gap-y-2">
    <label for="new-name" class="font-semibold">name</label>
    <input id="new-name" class="input input-sm w-full max-w-96" bind:value={name} placeholder="warehouse" required />
    <label for="new-site">site</label>
    <input id="new-site" class="input input-sm w-full max-w-96" bind:value={site} placeholder="left out: all workers reach it" title="the network location whose workers reach it" />
    <label for="new-at-most">legs at once</label>
    <input id="new-at-most" type="number" min="1" max="1000" class="input input-sm w-full max-w-96" bind:value={atMost} placeholder="left out: as many as workers have places" title="how many legs may use it at once, in all runs together" />
    <span class="self-start pt-1 font-semibold" id="kind-label">kind</span>
    <div class="flex flex-wrap gap-1.5" role="radiogroup" aria-labelledby="kind-label">
      {#each Object.keys(kinds) as one (one)}
        <button
          type="button"
          role="radio"
          aria-checked={kind === one}
          class="btn btn-sm {kind === one ? 'btn-primary' : ''}"
          onclick={() => {
            kind = one;
            values = {};
          }}>{one}</button
        >
      {/each}
    </div>
  </div>
  {#if schema}
    <p class="text-base-content/70 mb-3">{schema.description}</p>
    <SchemaForm
      {schema}
      {values}
      prefix="setting-"
      change={(key, value) => {
        if (value === undefined) delete values[key];
        else values[key] = value;
      }}
    />
    <p class="text-base-content/60 mt-3 text-xs">
      A secret is sealed and never shown again. It can also be a reference, read when it is needed:
      <code>from_env:SECRET_NAME</code> or <code>from_file:name</code>.
    </p>
  {/if}
  {#if problem}<div class="mt-3"><Problem {problem} /></div>{/if}
  <div class="mt-4 flex gap-2">
    <button class="btn btn-sm btn-primary" disabled={saving}>Add</button>
    <a class="btn btn-sm btn-ghost" href="#/connections">Cancel</a>
  </div>
</form>
