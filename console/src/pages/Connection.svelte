<script lang="ts">
  import { onMount } from "svelte";
  import { exchange, get, post, problemOf } from "../lib/api";
  import { api } from "../lib/places";
  import { go } from "../lib/router.svelte";
  import type { Schema } from "../lib/schema";
  import { may } from "../lib/session.svelte";
  import type { Connection, Probe, ProblemBody } from "../lib/types";
  import Objects from "../parts/Objects.svelte";
  import ProbeSteps from "../parts/ProbeSteps.svelte";
  import Problem from "../parts/Problem.svelte";
  import SchemaForm from "../parts/SchemaForm.svelte";
  import Upload from "../parts/Upload.svelte";

  let { name }: { name: string } = $props();
  let connection = $state<Connection | null>(null);
  let schema = $state<Schema | null>(null);
  let changes = $state<Record<string, unknown>>({});
  let probe = $state<Probe | "testing" | null>(null);
  let problem = $state<ProblemBody | null>(null);
  let uploads = $state(0);
  let holdsFiles = $derived(!!connection && ["folder", "objectstore", "sftp", "http"].includes(connection.kind));

  async function load() {
    connection = await get<Connection>(api(name));
    schema = (await get<Record<string, Schema>>("kinds"))[connection.kind] ?? null;
  }
  onMount(async () => {
    try {
      await load();
    } catch (error) {
      problem = problemOf(error);
    }
  });

  async function attempt(action: () => Promise<void>) {
    problem = null;
    try {
      await action();
    } catch (error) {
      problem = problemOf(error);
    }
  }
  const test = () =>
    attempt(async () => {
      probe = "testing";
      try {
        probe = await post<Probe>(api(name, "/test"), {});
      } catch (error) {
        probe = null;
        throw error;
      }
    });
  const save = () =>
    attempt(async () => {
      await exchange("PATCH", api(name), { json: { settings: changes } });
      changes = {};
      await load();
      await test();
    });
  const remove = () =>
    attempt(async () => {
      if (!confirm(`Remove connection ${name}?`)) return;
      await exchange("DELETE", api(name));
      go("/connections");
    });
</script>

<div class="mb-3 flex flex-wrap items-baseline gap-3">
  <h1 class="text-lg font-semibold"><a class="plain" href="#/connections">Connections</a> / {name}</h1>
  {#if connection}<span class="text-base-content/70">{connection.kind}{#if connection.site}, of the site {connection.site}{/if}{#if connection.at_most}, used by {connection.at_most} {connection.at_most === 1 ? "leg" : "legs"} at once at most{/if}</span>{/if}
</div>
{#if problem}<div class="mb-3"><Problem {problem} /></div>{/if}
{#if connection && schema}
  <div class="grid items-start gap-4 lg:grid-cols-[minmax(0,1fr)_24rem]">
    <section class="panel min-w-0">
      <h2>What it holds</h2>
      <div class="p-3">
        {#if name === "uploads" && may("operator")}<Upload done={() => (uploads += 1)} />{/if}
        {#key uploads}<Objects connection={name} {holdsFiles} />{/key}
      </div>
    </section>
    <section class="panel">
      <h2>Settings</h2>
      <form
        class="p-3"
        onsubmit={(event) => {
          event.preventDefault();
          save();
        }}
      >
        <fieldset disabled={!may("editor") || name === "uploads"}>
          <SchemaForm
            {schema}
            values={{ ...connection.settings, ...changes }}
            sealed={connection.secrets_set}
            prefix="setting-"
            change={(key, value) => (changes[key] = value ?? "")}
          />
        </fieldset>
        <div class="mt-3 flex flex-wrap gap-2">
          {#if may("editor") && name !== "uploads"}
            <button class="btn btn-sm btn-primary" disabled={!Object.keys(changes).length}>Save and test</button>
          {/if}
          {#if may("operator")}
            <button type="button" class="btn btn-sm" disabled={probe === "testing"} onclick={test}>
              {probe === "testing" ? "Testing …" : "Test"}
            </button>
          {/if}
          <a class="btn btn-sm" href="/api/v1/{api(name, '/file')}" download="{name}.yaml">File</a>
          {#if may("editor") && name !== "uploads"}
            <button type="button" class="btn btn-sm btn-ghost ml-auto" onclick={remove}>Remove</button>
          {/if}
        </div>
        {#if probe && probe !== "testing"}<div class="mt-3"><ProbeSteps {probe} /></div>{/if}
      </form>
    </section>
  </div>
{/if}
