<script lang="ts">
  import { exchange, get } from "../lib/api";
  import { draftOf, keepDraft } from "../lib/drafts";
  import { count } from "../lib/format";
  import { withValue } from "../lib/jobfile";
  import { Doing, load } from "../lib/load.svelte";
  import { jobPage } from "../lib/places";
  import { go } from "../lib/router.svelte";
  import { may } from "../lib/session.svelte";
  import type { Check, Edit, Finding, Job, Page, Reject } from "../lib/types";
  import Findings from "./Findings.svelte";
  import Loaded from "./Loaded.svelte";
  import Problem from "./Problem.svelte";

  /** Rows that were rejected, each with the bad value marked, and the edits of the job that would take them. */
  let { run, job, leg, retry }: { run: number; job: string; leg?: number; retry?: () => void } = $props();
  const PAUSE = 300;
  const ALL = "\u0000";
  let column = $state(ALL);
  let search = $state("");
  let columns = $state<string[]>([]);
  let help = $state.raw<{ findings: Finding[]; job: Job; etag: string | null } | null>(null);
  const doing = new Doing();
  let asked = $derived.by(() => {
    const parts = new URLSearchParams();
    if (column !== ALL) parts.set("column", column);
    if (search) parts.set("search", search);
    if (leg) parts.set("leg", String(leg));
    return parts.toString();
  });
  const page = load<Page<Reject>>(() => `runs/${run}/rejects?page_size=50&${asked}`, { rest: PAUSE });
  $effect(() => {
    const names = (page.data?.items ?? []).map((one) => one.column);
    if (names.some((name) => !columns.includes(name))) columns = [...new Set([...columns, ...names])].sort();
  });
  // where a row of a table stood says little: its key says which one it is
  let keyed = $derived(!!page.data?.items.some((one) => one.key));
  function placeOf(reject: Reject): string {
    if (!reject.key) return `row ${count(reject.row)}`;
    return Object.entries(JSON.parse(reject.key) as Record<string, string>).map(([name, value]) => `${name} ${value}`).join(", ");
  }
  /** Where a value stands in its row: not inside of another one, where that can be seen. */
  function placeIn(record: string, value: string): number {
    const isPart = (letter: string | undefined) => letter !== undefined && /[\p{L}\p{N}.-]/u.test(letter);
    const at = record.indexOf(value);
    for (let next = at; next >= 0; next = record.indexOf(value, next + 1)) {
      if (!isPart(record[next - 1]) && !isPart(record[next + value.length])) return next;
    }
    return at;
  }
  /** The row around its bad value. */
  function parts(reject: Reject): [string, string, string] | null {
    if (!reject.record) return null;
    const at = reject.value ? placeIn(reject.record, reject.value) : -1;
    return at < 0 ? [reject.record, "", ""] : [reject.record.slice(0, at), reject.value!, reject.record.slice(at + reject.value!.length)];
  }

  /** A check of the job as it is now: its findings have the edits. */
  async function ask() {
    const found = await doing.do("ask", async () => {
      const newest = await exchange<Job>("GET", `jobs/${encodeURIComponent(job)}`);
      const check = await exchange<Check>("POST", "check", { file: newest.data.file });
      return { findings: check.data.findings.filter((one) => one.severity !== "note"), job: newest.data, etag: newest.etag };
    });
    if (found) help = found;
  }
  /** Opens the job with the edit made, and not saved. */
  function take(text: string) {
    if (!help) return;
    const kept = draftOf(job);
    if (kept && kept.text !== help.job.file && !confirm(`There is a draft of ${job} that was not saved. Give it up?`)) return;
    keepDraft(job, { text, start: help.job.file, etag: help.etag });
    go(jobPage(job));
  }
  function apply(edit: Edit) {
    const lines = help!.job.file.split("\n");
    lines.splice(edit.line - 1, edit.old.length, ...edit.new);
    take(lines.join("\n"));
  }
  const tolerate = async () => {
    const total = (await get<Page<Reject>>(`runs/${run}/rejects?page_size=1${leg ? `&leg=${leg}` : ""}`)).total;
    take(withValue(help!.job.file, ["into", "rejects"], total));
  };
</script>

<section class="panel mb-4" data-testid="rejects">
  <h2 class="flex flex-wrap items-center gap-x-3 gap-y-1">
    Rejects
    <select class="select select-xs w-40 font-normal" aria-label="column of the rejects" bind:value={column}>
      <option value={ALL}>every column</option>
      {#each columns as one (one)}<option value={one}>{one || "rows that are not whole"}</option>{/each}
    </select>
    <input class="input input-xs w-44 font-normal" type="search" placeholder="search" aria-label="search the rejects" bind:value={search} />
    <span class="ml-auto flex flex-wrap items-center gap-x-3 gap-y-1 text-sm font-normal">
      {#if page.data}<span>{count(page.data.items.length)} of {count(page.data.total)}</span>{/if}
      <span>download <a class="plain" href="/api/v1/runs/{run}/rejects.csv?{asked}" download>CSV</a> · <a class="plain" href="/api/v1/runs/{run}/rejects.jsonl?{asked}" download>JSON lines</a></span>
      {#if may("operator")}<button class="btn btn-xs" disabled={!!doing.what} onclick={ask}>{doing.what ? "Checking …" : "What would take them?"}</button>{/if}
      {#if retry}
        <button class="btn btn-xs" onclick={retry} title="read these rows again from their files or table, fixed there or by the job as it is now">▸ Load them again</button>
      {/if}
    </span>
  </h2>
  {#if doing.problem}<div class="p-2"><Problem problem={doing.problem} /></div>{/if}
  {#if help}
    <div class="border-base-300 bg-base-200/60 border-b px-3.5 py-2" data-testid="edits">
      {#if help.findings.length}<Findings findings={help.findings} apply={may("editor") ? apply : undefined} />
      {:else}<p class="text-sm">The job as it is now, and its source, pass their check: run it again, or load these rows again.</p>{/if}
      {#if may("editor")}<p class="mt-1 text-sm">Or let so many bad rows pass: <button class="btn btn-xs" onclick={tolerate}>Tolerate them</button> opens the job with <code>into.rejects</code> raised, not saved yet.</p>{/if}
    </div>
  {/if}
  <Loaded of={page} lines={3}>
    {#snippet children(shown)}
      <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
      <div class="max-h-96 overflow-auto" tabindex="0" role="region" aria-label="Rejected rows">
        <table class="table-sm table">
          <thead><tr>{#if keyed}<th>Row</th>{:else}<th class="num">Row</th><th class="num">Line</th>{/if}<th>Column</th><th>Value</th><th>Reason</th><th>The row</th></tr></thead>
          <tbody>
            {#each shown.items as reject, index (index)}
              {@const whole = parts(reject)}
              <tr>
                {#if keyed}
                  <td class="max-w-60 truncate font-mono text-xs" title={placeOf(reject)}>{placeOf(reject)}</td>
                {:else}
                  <td class="num">{count(reject.row)}</td>
                  <td class="num">{count(reject.line)}</td>
                {/if}
                <td>{reject.column || "—"}</td>
                <td class="max-w-60 truncate font-mono text-xs" title={reject.value ?? ""}>{reject.value ?? "—"}</td>
                <td class="min-w-40">{reject.reason}</td>
                <td class="max-w-96 truncate font-mono text-xs" title={reject.record}>{#if whole}{whole[0]}{#if whole[1]}<mark class="bg-error/25 text-base-content rounded px-0.5">{whole[1]}</mark>{/if}{whole[2]}{/if}</td>
              </tr>
            {:else}
              <tr><td colspan="6" class="text-base-content/75">No reject is like that.</td></tr>
            {/each}
          </tbody>
        </table>
      </div>
    {/snippet}
  </Loaded>
</section>
