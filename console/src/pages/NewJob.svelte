<script lang="ts">
  import { exchangeBytes, get, post } from "../lib/api";
  import { draftOf, dropDraft, NEW } from "../lib/drafts";
  import { bytes, moment } from "../lib/format";
  import { withValue } from "../lib/jobfile";
  import { Doing, load } from "../lib/load.svelte";
  import { route } from "../lib/router.svelte";
  import type { Job as JobAnswer, JobLine, Page } from "../lib/types";
  import ConnectionSelect from "../parts/ConnectionSelect.svelte";
  import Head from "../parts/Head.svelte";
  import ManyObjects from "../parts/ManyObjects.svelte";
  import ObjectPicker from "../parts/ObjectPicker.svelte";
  import Problem from "../parts/Problem.svelte";
  import Job from "./Job.svelte";

  /** Where a job begins: with objects of a connection, a file, a query or another job; then it is in the workspace. */
  const WAYS = { objects: "Objects of a connection", file: "A file of mine", query: "A query", copy: "Another job", empty: "An empty file" } as const;
  type Way = keyof typeof WAYS;
  const EMPTY = "ultravect: 1\njob: my-job\nfrom:\n  connection: \n  table: \ninto:\n  connection: \n  table: \n";
  const UPLOADS = "uploads";
  const LAST = "last target";

  let way = $state<Way>(route.asked.copy ? "copy" : route.asked.query ? "query" : "objects");
  let from = $state(route.asked.from ?? "");
  let chosen = $state<string[]>(route.asked.object ? [route.asked.object] : []);
  let sql = $state(route.asked.query ?? "");
  let uploaded = $state<File | null>(null);
  let copied = $state(route.asked.copy ?? "");
  let into = $state(localStorage.getItem(LAST) ?? "");
  let target = $state("");
  let mode = $state("append");
  let keys = $state("");
  let layout = $state("");
  let text = $state("");
  let over = $state(false);
  let kept = $state(draftOf(NEW));
  const doing = new Doing();
  const jobs = load<Page<JobLine>>(() => (way === "copy" ? "jobs?page_size=200" : null));
  let many = $derived(way === "objects" && (chosen.length > 1 || chosen.some((one) => /[*?]/.test(one) && !one.includes("/"))));
  let ready = $derived(
    way === "empty" || (way === "copy" ? !!copied : !!into && (way === "objects" ? !!from && chosen.length > 0 : way === "file" ? !!uploaded : !!from && !!sql.trim())),
  );
  /** A name for the target, from that of the source. */
  let proposed = $derived.by(() => {
    const name = way === "file" ? (uploaded?.name ?? "") : way === "objects" ? (chosen[0] ?? "") : "";
    if (many) return "";
    const last = name.split("/").pop() ?? "";
    return (last.includes(".") && way === "file" ? last.slice(0, last.lastIndexOf(".")) : last.replace(/\.(csv|tsv|txt|json|jsonl|parquet|xlsx|xml|gz|zip)+$/i, "").split(".").pop()!).toLowerCase().replace(/[^\p{L}\p{N}]+/gu, "_").replace(/^_+|_+$/g, "");
  });

  async function draft(event?: SubmitEvent) {
    event?.preventDefault();
    if (way === "empty") {
      text = EMPTY;
      return;
    }
    const made = await doing.do("draft", async () => {
      if (way === "copy") {
        const other = await get<JobAnswer>(`jobs/${encodeURIComponent(copied)}`);
        return withValue(other.file, ["job"], `${copied.slice(0, 58)}-copy`);
      }
      if (way === "file") await exchangeBytes(`uploads/${encodeURIComponent(uploaded!.name)}`, uploaded!);
      const source = way === "file" ? { from_connection: UPLOADS, from_object: uploaded!.name } : way === "query" ? { from_connection: from, query: sql } : { from_connection: from, ...(many ? { from_objects: chosen } : { from_object: chosen[0] }) };
      const asked = {
        ...source,
        into_connection: into,
        into_object: target || proposed,
        mode,
        keys: keys.split(",").map((key) => key.trim()).filter(Boolean),
        ...(layout ? { layout } : {}),
      };
      return (await post<{ file: string }>("draft", asked)).file;
    });
    if (made === undefined) return;
    if (into) localStorage.setItem(LAST, into);
    text = made;
  }
  function take(files: FileList | null | undefined) {
    over = false;
    if (!files?.[0]) return;
    [way, uploaded] = ["file", files[0]];
  }
  function restart() {
    [text, kept] = ["", null];
  }
</script>

{#if text}
  <Job start={text} {restart} />
{:else}
  <Head title="New job" under="what is copied; the draft has every column with its type, and nothing is saved before you save it" back={{ href: "/jobs", name: "Jobs" }} />
  {#if kept}
    <p class="panel mb-3 flex flex-wrap items-center gap-3 px-3 py-2 text-sm">There is a draft of {moment(kept.at)} that was not saved.
      <button class="btn btn-xs btn-primary" onclick={() => (text = kept!.text)}>Go on with it</button>
      <button class="btn btn-xs" onclick={() => { dropDraft(NEW); kept = null; }}>Give it up</button></p>
  {/if}
  {#if doing.problem}<div class="mb-3"><Problem problem={doing.problem} /></div>{/if}
  <!-- svelte-ignore a11y_no_noninteractive_element_interactions -->
  <form
    class="grid items-start gap-3 lg:grid-cols-[minmax(0,1fr)_20rem]"
    onsubmit={draft}
    ondragover={(event) => { event.preventDefault(); over = true; }}
    ondragleave={() => (over = false)}
    ondrop={(event) => { event.preventDefault(); take(event.dataTransfer?.files); }}
  >
    <section class="panel min-w-0 {over ? 'border-primary' : ''}" aria-label="From">
      <div class="border-base-300 flex flex-wrap border-b px-1" role="tablist" aria-label="Begin with">
        {#each Object.entries(WAYS) as [id, name] (id)}
          <button type="button" role="tab" aria-selected={way === id} class="cursor-pointer border-b-2 px-3 py-2 {way === id ? 'border-primary font-semibold' : 'hover:border-base-300 border-transparent'}" onclick={() => (way = id as Way)}>{name}</button>
        {/each}
      </div>
      <div class="p-3">
        {#if way === "objects" || way === "query"}
          <label for="from-connection">{way === "query" ? "database" : "connection"}</label>
          <div class="mb-3 max-w-80"><ConnectionSelect id="from-connection" value={from} disabled={false} empty choose={(name) => { from = name; chosen = []; }} /></div>
        {/if}
        {#if way === "objects"}
          {#if from}<ManyObjects connection={from} bind:chosen />
          {:else}<p class="text-base-content/75">Choose where the rows are; its tables or files are listed then. Tick one, or many: a leg each.</p>{/if}
        {:else if way === "file"}
          <label class="rounded-box flex cursor-pointer flex-col items-center border border-dashed px-4 py-8 text-center {over ? 'border-primary bg-primary/10' : 'border-base-300'}">
            <span>{uploaded ? `${uploaded.name}, ${bytes(uploaded.size)}` : "Drop a file anywhere here, or choose it"}</span>
            <input type="file" class="file-input file-input-sm mt-3" aria-label="File" onchange={(event) => take(event.currentTarget.files)} />
          </label>
          <p class="text-base-content/75 mt-2 text-xs">It is kept in the service's connection <code>uploads</code>. How it is cut is found, and shown.</p>
        {:else if way === "query"}
          <label for="from-query">query, in the SQL of that database</label>
          <textarea id="from-query" class="textarea w-full font-mono text-xs" rows="9" bind:value={sql} placeholder="select hut_code, count(*) as bookings from booking group by hut_code"></textarea>
        {:else if way === "copy"}
          <label for="copied">job</label>
          <select id="copied" class="select select-sm w-full max-w-96" bind:value={copied}>
            <option value="">choose one</option>
            {#each jobs.data?.items ?? [] as one (one.name)}<option value={one.name}>{one.name}</option>{/each}
          </select>
          <p class="text-base-content/75 mt-2 text-xs">All of it is taken, under another name.</p>
        {:else}
          <p class="text-base-content/75">A job file with the keys that every job has; the forms of the workspace have all others.</p>
        {/if}
      </div>
    </section>
    <section class="panel" aria-label="Into">
      <h2>Into</h2>
      <div class="flex flex-col gap-2.5 p-3">
        {#if way !== "copy" && way !== "empty"}
          <div><label for="into-connection">connection</label><ConnectionSelect id="into-connection" value={into} disabled={false} empty choose={(name) => (into = name)} /></div>
          <div>
            <label for="into-object">{many ? "schema or folder" : "table or file"}</label>
            <ObjectPicker id="into-object" connection={into} value={target || proposed} required placeholder={many ? "raw, or raw.{table}" : "it may be missing"} choose={(name) => (target = name)} />
          </div>
          <div>
            <label for="mode">mode</label>
            <select id="mode" class="select select-sm w-full" bind:value={mode}><option>append</option><option>overwrite</option><option>upsert</option></select>
          </div>
          {#if mode === "upsert"}
            <div><label for="keys">keys</label><input id="keys" class="input input-sm w-full" placeholder={many ? "left out: each table's own primary key" : "booking_id, season"} bind:value={keys} required={!many} /></div>
          {/if}
          {#if way !== "query" && !many}
            <details><summary class="cursor-pointer text-sm">Saved layout</summary><input id="layout" class="input input-sm mt-1 w-full" aria-label="saved layout" placeholder="left out: found" bind:value={layout} /></details>
          {/if}
        {:else}
          <p class="text-base-content/75 text-sm">As the {way === "copy" ? "other job says" : "file will say"}; change it in the workspace.</p>
        {/if}
        <button class="btn btn-sm btn-primary" disabled={!!doing.what || !ready}>{doing.what ? "Drafting …" : way === "empty" ? "Begin" : "Draft the job"}</button>
      </div>
    </section>
  </form>
{/if}
