<script lang="ts">
  import { exchange } from "../lib/api";
  import { Doing, load } from "../lib/load.svelte";
  import { connectionPage } from "../lib/places";
  import { ask, go, route } from "../lib/router.svelte";
  import type { Schema } from "../lib/schema";
  import Head from "../parts/Head.svelte";
  import Loaded from "../parts/Loaded.svelte";
  import Problem from "../parts/Problem.svelte";
  import SchemaForm from "../parts/SchemaForm.svelte";

  const kinds = load<Record<string, Schema>>(() => "kinds");
  let kind = $derived(route.asked.kind ?? Object.keys(kinds.data ?? {})[0] ?? "");
  let schema = $derived(kinds.data?.[kind]);
  let name = $state("");
  let site = $state("");
  let atMost = $state<number | null>(null);
  let values = $state<Record<string, unknown>>({});
  const doing = new Doing();

  async function add(event: SubmitEvent) {
    event.preventDefault();
    const made = await doing.do("add", () => exchange("POST", "connections", { json: { name, kind, site, at_most: atMost, settings: values } }));
    // what it leads to is tried at once
    if (made) go(`${connectionPage(name)}?test=1`);
  }
</script>

<Head title="New connection" back={{ href: "/connections", name: "Connections" }} />
<Loaded of={kinds}>{#snippet children(all)}
<form class="panel max-w-3xl p-4" onsubmit={add}>
  <div class="mb-4 grid grid-cols-[minmax(6rem,auto)_minmax(0,1fr)] items-start gap-x-3 gap-y-2">
    <span class="pt-1 font-semibold" id="kind-label">kind</span>
    <div class="flex flex-wrap gap-1.5" role="radiogroup" aria-labelledby="kind-label">
      {#each Object.keys(all) as one (one)}
        <button
          type="button"
          role="radio"
          aria-checked={kind === one}
          class="btn btn-sm {kind === one ? 'btn-primary' : ''}"
          onclick={() => {
            ask({ kind: one });
            values = {};
          }}>{one}</button
        >
      {/each}
    </div>
    <label for="new-name" class="pt-1 font-semibold">name</label>
    <input id="new-name" class="input input-sm w-full max-w-96" bind:value={name} placeholder="warehouse" required />
  </div>
  {#if schema}
    <p class="text-base-content/75 mb-3">{schema.description}</p>
    {#key kind}
      <SchemaForm
        {schema}
        {values}
        prefix="setting-"
        folded
        change={(key, value) => {
          if (value === undefined) delete values[key];
          else values[key] = value;
        }}
      />
    {/key}
    <details class="mt-3">
      <summary class="mb-2 cursor-pointer text-sm">Where it is reached from, and by how many</summary>
      <div class="grid grid-cols-[minmax(6rem,auto)_minmax(0,1fr)] items-start gap-x-3 gap-y-2">
        <label for="new-site" class="pt-1">site</label>
        <div><input id="new-site" class="input input-sm w-full max-w-96" bind:value={site} /><p class="text-base-content/75 mt-0.5 text-xs">The network location whose workers reach it. Left out: all workers reach it.</p></div>
        <label for="new-at-most" class="pt-1">legs at once</label>
        <div><input id="new-at-most" type="number" min="1" max="1000" class="input input-sm w-full max-w-96" bind:value={atMost} /><p class="text-base-content/75 mt-0.5 text-xs">How many legs may use it at once, in all runs together. Left out: as many as workers have places.</p></div>
      </div>
    </details>
    <p class="text-base-content/75 mt-3 text-xs">
      A secret is sealed and never shown again. It can also be a reference, read when it is needed:
      <code>from_env:SECRET_NAME</code> or <code>from_file:name</code>.
    </p>
  {/if}
  {#if doing.problem}<div class="mt-3"><Problem problem={doing.problem} /></div>{/if}
  <div class="mt-4 flex gap-2">
    <button class="btn btn-sm btn-primary" disabled={!!doing.what}>{doing.what ? "Adding …" : "Add and test"}</button>
    <a class="btn btn-sm btn-ghost" href="/connections">Cancel</a>
  </div>
</form>
{/snippet}</Loaded>
