<script lang="ts">
  import { get, post, problemOf } from "../lib/api";
  import { api } from "../lib/places";
  import type { ObjectPage, ProblemBody } from "../lib/types";
  import ConnectionSelect from "../parts/ConnectionSelect.svelte";
  import ManyObjects from "../parts/ManyObjects.svelte";
  import Problem from "../parts/Problem.svelte";
  import Job from "./Job.svelte";

  let from = $state({ connection: "", object: "" });
  let into = $state({ connection: "", object: "" });
  let many = $state(false);
  let chosen = $state<string[]>([]);
  let more = $state({ layout: "", mode: "append", keys: "" });
  let names = $state<Record<string, string[]>>({});
  let text = $state("");
  let problem = $state<ProblemBody | null>(null);
  let drafting = $state(false);
  const EMPTY = "ultravect: 1\njob: my-job\nfrom:\n  connection: \n  table: \ninto:\n  connection: \n  table: \n";

  /** What a connection holds, to choose from; typing another name is fine. */
  async function list(connection: string) {
    if (!connection || names[connection]) return;
    try {
      const page = await get<ObjectPage>(api(connection, "/objects", { limit: 1000 }));
      names[connection] = page.items.map((one) => one.name);
    } catch (error) {
      problem = problemOf(error);
    }
  }

  async function draft(event: SubmitEvent) {
    event.preventDefault();
    drafting = true;
    problem = null;
    try {
      const asked = {
        from_connection: from.connection,
        ...(many ? { from_objects: chosen } : { from_object: from.object }),
        into_connection: into.connection,
        into_object: into.object,
        mode: more.mode,
        keys: more.keys.split(",").map((key) => key.trim()).filter(Boolean),
        ...(more.layout ? { layout: more.layout } : {}),
      };
      text = (await post<{ file: string }>("draft", asked)).file;
    } catch (error) {
      problem = problemOf(error);
    }
    drafting = false;
  }
</script>

{#if text}
  <Job name="new job" start={text} />
{:else}
  <h1 class="mb-3 text-lg font-semibold">New job</h1>
  {#if problem}<div class="mb-3"><Problem {problem} /></div>{/if}
  <form class="panel max-w-3xl p-4" onsubmit={draft}>
    <label class="mb-3 flex items-center gap-2"><input type="checkbox" class="checkbox checkbox-sm" bind:checked={many} /> many tables, each into one of its own</label>
    {#each [{ title: "From", key: "from", what: "a table, a file, a sheet (book.xlsx/June), or a pattern of files", place: from }, { title: "Into", key: "into", what: "a table, or the path of a file; it may be missing", place: into }] as side (side.key)}
      <fieldset class="mb-4">
        <legend class="mb-1.5 font-semibold">{side.title}</legend>
        <div class="grid items-center gap-x-3 gap-y-2 sm:grid-cols-[8rem_1fr]">
          <label for="{side.key}-connection">connection</label>
          <ConnectionSelect
            id="{side.key}-connection"
            value={side.place.connection}
            disabled={false}
            empty
            choose={(name) => {
              side.place.connection = name;
              void list(name);
            }}
          />
          <label for="{side.key}-object" class={many && side.key === "from" ? "self-start pt-1" : ""}>{many && side.key === "into" ? "schema or folder" : many ? "objects" : "object"}</label>
          {#if many && side.key === "from"}
            <div id="from-object"><ManyObjects connection={from.connection} bind:chosen /></div>
          {:else}<input
            id="{side.key}-object"
            class="input input-sm w-full max-w-96"
            list="{side.key}-objects"
            placeholder={many ? "raw, or raw.{table}" : side.what}
            bind:value={side.place.object}
            required
          />{/if}
          <datalist id="{side.key}-objects">
            {#each names[side.place.connection] ?? [] as one (one)}<option value={one}></option>{/each}
          </datalist>
        </div>
      </fieldset>
    {/each}
    <fieldset class="mb-4 grid items-center gap-x-3 gap-y-2 sm:grid-cols-[8rem_1fr]">
      <label for="mode">mode</label>
      <select id="mode" class="select select-sm w-40" bind:value={more.mode}>
        <option>append</option>
        <option>overwrite</option>
        <option>upsert</option>
      </select>
      {#if more.mode === "upsert"}
        <label for="keys">keys</label>
        <input id="keys" class="input input-sm w-full max-w-96" placeholder={many ? "left out: each table's own primary key" : "booking_id, season"} bind:value={more.keys} required={!many} />
      {/if}
      {#if !many}
        <label for="layout">saved layout</label>
        <input id="layout" class="input input-sm w-full max-w-96" placeholder="left out: found" bind:value={more.layout} />
      {/if}
    </fieldset>
    <div class="flex flex-wrap gap-2">
      <button class="btn btn-sm btn-primary" disabled={drafting || !from.connection || !into.connection || (many && !chosen.length)}>
        {drafting ? "Drafting …" : "Draft the job"}
      </button>
      <button type="button" class="btn btn-sm" onclick={() => (text = EMPTY)}>Start with an empty file</button>
    </div>
    <p class="text-base-content/70 mt-3 text-sm">{many ? "The draft names the tables and where each goes." : "The draft has every column with its type."} Nothing is saved before you save it.</p>
  </form>
{/if}
