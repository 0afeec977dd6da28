<script lang="ts">
  import { get, post } from "../lib/api";
  import { csvOf, history, remember, save } from "../lib/asked";
  import { choices, isNumber, type Value } from "../lib/chart";
  import { count, moment } from "../lib/format";
  import { Doing, load } from "../lib/load.svelte";
  import { api, askPage, query } from "../lib/places";
  import { go, route } from "../lib/router.svelte";
  import { may } from "../lib/session.svelte";
  import type { Answer, Connection, ObjectPage, Page, Preview } from "../lib/types";
  import Head from "../parts/Head.svelte";
  import Problem from "../parts/Problem.svelte";
  import Rows from "../parts/Rows.svelte";

  /** A question to a database, and its answer as rows or as a picture. */
  let { connection = "" }: { connection?: string } = $props();
  const connections = load<Page<Connection>>(() => "connections?page_size=200");
  let places = $derived((connections.data?.items ?? []).filter((one) => one.holds === "tables"));
  // svelte-ignore state_referenced_locally
  let sql = $state(route.asked.sql ?? "");
  let limit = $state(200);
  let answer = $state.raw<Answer | null>(null);
  let took = $state(0);
  let drawn = $state(-1);
  let asked = $state(history());
  let searching = $state("");
  const doing = new Doing();
  const editor = import("../parts/SqlEditor.svelte");

  const objects = load<ObjectPage>(() => (connection ? api(connection, "/objects", { limit: 2000 }) : null));
  let columns = $state<Record<string, string[]>>({});
  // columns of the tables that are written there, to be completed
  $effect(() => {
    const words = new Set(sql.toLowerCase().split(/[^\p{L}\p{N}_.]+/u));
    const wanted = (objects.data?.items ?? []).filter((one) => columns[one.name] === undefined && (words.has(one.name.toLowerCase()) || words.has(one.name.toLowerCase().split(".").pop()!)));
    for (const one of wanted.slice(0, 4)) {
      columns[one.name] = [];
      get<Preview>(api(connection, "/preview", { object: one.name, rows: 0 }))
        .then((found) => (columns[one.name] = found.columns.map((column) => column.name)))
        .catch(() => undefined);
    }
  });
  let tables = $derived(
    Object.fromEntries((objects.data?.items ?? []).flatMap((one): [string, string[]][] => [[one.name, columns[one.name] ?? []], [one.name.split(".").pop()!, columns[one.name] ?? []]])),
  );

  async function submit() {
    if (!connection || !sql.trim()) return;
    const began = performance.now();
    const found = await doing.do("ask", () => post<Answer>(api(connection, "/ask"), { sql, limit }));
    took = (performance.now() - began) / 1000;
    if (!found) return;
    answer = found;
    drawn = -1;
    asked = remember(connection, sql.trim());
    window.history.replaceState(null, "", askPage(connection, sql));
  }
  let pictures = $derived(answer ? choices(answer.types) : []);
  let shownHistory = $derived(asked.filter((one) => `${one.connection} ${one.sql}`.toLowerCase().includes(searching.toLowerCase())));
  const shown = (value: unknown) => (typeof value === "object" && value !== null ? JSON.stringify(value) : String(value));
  const chart = import("../parts/Chart.svelte");
</script>

<Head title="Ask" under="one statement that reads; nothing can be written by it">
  {#snippet actions()}
    <label for="ask-connection" class="text-sm">of</label>
    <select id="ask-connection" class="select select-sm w-52" value={connection} onchange={(event) => go(askPage(event.currentTarget.value, sql))}>
      {#if !connection}<option value="">choose a database</option>{/if}
      {#each places as one (one.name)}<option value={one.name}>{one.name} ({one.kind})</option>{/each}
    </select>
  {/snippet}
</Head>
{#if !may("operator")}
  <p class="panel px-4 py-6">Asking takes the role operator; an admin gives it.</p>
{:else}
  <div class="grid items-start gap-3 lg:grid-cols-[minmax(0,1fr)_17rem]">
    <div class="min-w-0">
      <section class="panel mb-3" aria-label="The question">
        <div class="h-36 overflow-auto">
          {#await editor then { default: SqlEditor }}<SqlEditor bind:text={sql} {tables} submit={() => void submit()} />{/await}
        </div>
        <div class="border-base-300 flex flex-wrap items-center gap-2 border-t px-3 py-1.5">
          <button class="btn btn-sm btn-primary" disabled={!connection || !sql.trim() || !!doing.what} title="Ctrl+Enter" onclick={submit}>{doing.what ? "Asking …" : "Ask"}</button>
          <label class="text-sm" for="limit">at most</label>
          <select id="limit" class="select select-xs w-24" bind:value={limit}>{#each [200, 1000, 10_000] as one (one)}<option value={one}>{count(one)} rows</option>{/each}</select>
          {#if may("editor") && sql.trim() && connection}<a class="btn btn-sm ml-auto" href="/new-job{query({ from: connection, query: sql.trim() })}">Make this a job</a>{/if}
        </div>
      </section>
      {#if doing.problem}<div class="mb-3"><Problem problem={doing.problem} /></div>{/if}
      {#if answer}
        <section class="panel" aria-label="The answer">
          <h2 class="flex flex-wrap items-center gap-2">
            <span>{answer.more ? "the first " : ""}{count(answer.rows.length)} {answer.rows.length === 1 ? "row" : "rows"}</span>
            <span class="text-base-content/75 font-normal">in {took.toFixed(1)} s</span>
            <span class="ml-auto flex flex-wrap gap-1 font-normal" role="group" aria-label="Shown as">
              {#if pictures.length}
                <button class="btn btn-xs {drawn < 0 ? 'btn-primary' : ''}" aria-pressed={drawn < 0} onclick={() => (drawn = -1)}>rows</button>
                {#each pictures as one, place (place)}<button class="btn btn-xs {drawn === place ? 'btn-primary' : ''}" aria-pressed={drawn === place} onclick={() => (drawn = place)}>{one.shape}</button>{/each}
              {/if}
              <button class="btn btn-xs" onclick={() => save("answer.csv", "text/csv", csvOf(answer!.columns, answer!.rows))}>CSV</button>
              <button class="btn btn-xs" onclick={() => save("answer.json", "application/json", JSON.stringify(answer!.rows.map((row) => Object.fromEntries(answer!.columns.map((name, at) => [name, row[at]]))), null, 1))}>JSON</button>
            </span>
          </h2>
          {#if pictures[drawn]}
            {#await chart then { default: Chart }}<Chart columns={answer.columns} types={answer.types} rows={answer.rows as Value[][]} choice={pictures[drawn]!} />{/await}
          {:else}
            <Rows items={answer.rows as unknown[][]} columns={answer.columns.length} label="The rows" tall="calc(100vh - 21rem)" empty="No rows.">
              {#snippet head()}
                <tr>{#each answer!.columns as name, at (at)}<th class={isNumber(answer!.types[at] ?? "") ? "text-right" : ""}>{name}<span class="text-base-content/75 block font-normal">{answer!.types[at]}</span></th>{/each}</tr>
              {/snippet}
              {#snippet row(values)}
                <tr class="h-7">
                  {#each values as value, at (at)}
                    <td class="max-w-80 truncate font-mono {isNumber(answer!.types[at] ?? '') ? 'num' : 'whitespace-pre'}" title={shown(value).length > 40 ? shown(value).slice(0, 2000) : undefined}>{#if value === null}<span class="text-base-content/75">NULL</span>{:else}{shown(value).slice(0, 200)}{/if}</td>
                  {/each}
                </tr>
              {/snippet}
            </Rows>
          {/if}
        </section>
      {:else if !doing.problem}
        <p class="panel px-4 py-6">
          {#if connection}Write a question, and press Ctrl+Enter. Names of tables and columns are completed as you type.{:else}Choose the database that is asked.{/if}
        </p>
      {/if}
    </div>
    <section class="panel" aria-labelledby="asked">
      <h2 id="asked">Asked before</h2>
      {#if asked.length > 6}<div class="px-2 pt-2"><input class="input input-xs w-full" type="search" placeholder="search" aria-label="Search what was asked" bind:value={searching} /></div>{/if}
      <ul class="max-h-[70vh] overflow-auto py-1 text-xs">
        {#each shownHistory.slice(0, 40) as one (one.connection + one.sql)}
          <li>
            <button
              class="hover:bg-base-200 w-full cursor-pointer px-3 py-1.5 text-left"
              title={one.sql}
              onclick={() => {
                sql = one.sql;
                if (one.connection !== connection) go(askPage(one.connection, one.sql));
              }}
            >
              <span class="line-clamp-2 font-mono [overflow-wrap:anywhere]">{one.sql}</span>
              <span class="text-base-content/75">{one.connection}, {moment(one.at)}</span>
            </button>
          </li>
        {:else}
          <li class="text-base-content/75 px-3 py-1.5">{asked.length ? "Nothing like that." : "Nothing yet. It is kept in this browser only."}</li>
        {/each}
      </ul>
    </section>
  </div>
{/if}
