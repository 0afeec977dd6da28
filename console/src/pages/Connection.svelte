<script lang="ts">
  import { untrack } from "svelte";
  import { exchange, post } from "../lib/api";
  import { Doing, load } from "../lib/load.svelte";
  import { api, askPage } from "../lib/places";
  import { go, route } from "../lib/router.svelte";
  import type { Schema } from "../lib/schema";
  import { may } from "../lib/session.svelte";
  import type { Connection, Probe } from "../lib/types";
  import Head from "../parts/Head.svelte";
  import Loaded from "../parts/Loaded.svelte";
  import Objects from "../parts/Objects.svelte";
  import ProbeSteps from "../parts/ProbeSteps.svelte";
  import Problem from "../parts/Problem.svelte";
  import SchemaForm from "../parts/SchemaForm.svelte";
  import Upload from "../parts/Upload.svelte";

  let { name }: { name: string } = $props();
  const UPLOADS = "uploads";
  const loaded = load<Connection>(() => api(name));
  const kinds = load<Record<string, Schema>>(() => "kinds");
  let connection = $derived(loaded.data);
  let schema = $derived(connection ? kinds.data?.[connection.kind] : undefined);
  let changes = $state<Record<string, unknown>>({});
  let probe = $state<Probe | null>(null);
  let uploads = $state(0);
  // svelte-ignore state_referenced_locally
  let configuring = $state("test" in route.asked);
  const doing = new Doing();

  async function test() {
    probe = (await doing.do("test", () => post<Probe>(api(name, "/test"), {}))) ?? null;
  }
  async function save() {
    if (!(await doing.do("save", () => exchange("PATCH", api(name), { json: { settings: changes } })))) return;
    changes = {};
    loaded.again();
    await test();
  }
  async function remove() {
    if (!confirm(`Remove connection ${name}?`)) return;
    if (await doing.do("remove", () => exchange("DELETE", api(name)))) go("/connections");
  }
  // a connection that was just made is tried at once
  $effect(() => {
    if ("test" in route.asked) untrack(() => void test());
  });
  let about = $derived(
    connection
      ? [connection.kind, connection.site ? `of the site ${connection.site}` : "", connection.at_most ? `used by ${connection.at_most} ${connection.at_most === 1 ? "leg" : "legs"} at once at most` : ""]
          .filter(Boolean)
          .join(", ")
      : "",
  );
</script>

<Head title={name} under={about} back={{ href: "/connections", name: "Connections" }}>
  {#snippet actions()}
    {#if connection}
      {#if connection.holds === "tables" && may("operator")}<a class="btn btn-sm" href={askPage(name)}>Ask</a>{/if}
      {#if may("operator")}<button type="button" class="btn btn-sm" disabled={!!doing.what} onclick={test}>{doing.what === "test" ? "Testing …" : "Test"}</button>{/if}
      <button type="button" class="btn btn-sm" aria-expanded={configuring} onclick={() => (configuring = !configuring)}>Settings</button>
    {/if}
  {/snippet}
</Head>
{#if doing.problem}<div class="mb-3"><Problem problem={doing.problem} /></div>{/if}
{#if probe}
  <section class="panel mb-3 px-3 py-2" aria-label="The test">
    <ProbeSteps {probe} />
  </section>
{/if}
<Loaded of={loaded}>
  {#snippet children(connection)}
    <div class="grid items-start gap-4 {configuring ? 'lg:grid-cols-[minmax(0,1fr)_24rem]' : ''}">
      <section class="panel min-w-0">
        <div class="p-3">
          {#if name === UPLOADS && may("operator")}<Upload done={() => (uploads += 1)} />{/if}
          {#key uploads}<Objects connection={name} holdsFiles={connection.holds === "files"} />{/key}
        </div>
      </section>
      {#if configuring && schema}
        <section class="panel order-first lg:order-last">
          <h2>Settings</h2>
          <form
            class="p-3"
            onsubmit={(event) => {
              event.preventDefault();
              void save();
            }}
          >
            <fieldset disabled={!may("editor") || name === UPLOADS}>
              <SchemaForm
                {schema}
                values={{ ...connection.settings, ...changes }}
                sealed={connection.secrets_set}
                prefix="setting-"
                folded
                change={(key, value) => (changes[key] = value ?? "")}
              />
            </fieldset>
            <div class="mt-3 flex flex-wrap gap-2">
              {#if may("editor") && name !== UPLOADS}
                <button class="btn btn-sm btn-primary" disabled={!Object.keys(changes).length || !!doing.what}>Save and test</button>
              {/if}
              <a class="btn btn-sm" href="/api/v1/{api(name, '/file')}" download="{name}.yaml">File</a>
              {#if may("editor") && name !== UPLOADS}
                <button type="button" class="btn btn-sm btn-ghost ml-auto" onclick={remove}>Remove</button>
              {/if}
            </div>
          </form>
        </section>
      {/if}
    </div>
  {/snippet}
</Loaded>
