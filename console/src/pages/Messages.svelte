<script lang="ts">
  /** Who is sent a message of what, and what was sent. */
  import { exchange, post } from "../lib/api";
  import { moment } from "../lib/format";
  import { Doing, load } from "../lib/load.svelte";
  import { may } from "../lib/session.svelte";
  import type { NotifyRule, Page, SentMessage } from "../lib/types";
  import Head from "../parts/Head.svelte";
  import Loaded from "../parts/Loaded.svelte";
  import Problem from "../parts/Problem.svelte";

  const OCCASIONS: [NotifyRule["occasions"][number], string][] = [
    ["failed", "a run failed"],
    ["recovered", "succeeded again"],
    ["late", "not done by run.due"],
    ["rejects", "rejected rows"],
    ["guard", "a guard warns"],
    ["changed", "a target has changed"],
    ["missing", "no file came"],
    ["unmatched", "files fit no provider"],
  ];
  const EMPTY = { name: "", occasions: ["failed", "late"] as NotifyRule["occasions"], mail: "", webhook: "", key: "", jobs: "", labels: "", quiet_from: "", quiet_to: "", remind_hours: 0 };

  const rules = load<Page<NotifyRule>>(() => "notify?page_size=200", { every: 5000 });
  const sent = load<Page<SentMessage>>(() => "messages?page_size=50", { every: 5000 });
  let messages = $derived(sent.data?.items ?? []);
  const running = new Doing();
  let said = $state("");
  let rule = $state({ ...EMPTY });
  const zone = Intl.DateTimeFormat().resolvedOptions().timeZone;
  const words = (text: string) => text.split(/[\s,]+/).filter(Boolean);
  const at = (name: string) => `notify/${encodeURIComponent(name)}`;

  async function doing(what: string, action: () => Promise<string>) {
    said = (await running.do(what, action)) || said;
    rules.again();
    sent.again();
  }
  async function save(event: SubmitEvent) {
    event.preventDefault();
    const { name, key, ...given } = rule;
    await doing("save", async () => {
      const json = { ...given, mail: words(given.mail), jobs: words(given.jobs), labels: words(given.labels), quiet_zone: zone, ...(key ? { key } : {}) };
      await exchange("PUT", at(name), { json });
      rule = { ...EMPTY };
      return `saved the rule ${name}; send a test to see whether it arrives`;
    });
  }
  const test = (name: string) =>
    doing("test", async () => {
      await post(`${at(name)}/test`);
      return `the rule ${name} reaches its addresses`;
    });
  const remove = (name: string) =>
    doing("remove", async () => {
      if (!confirm(`Remove the rule ${name}, with its messages?`)) return "";
      await exchange("DELETE", at(name));
      return `removed the rule ${name}`;
    });
  const of = (one: NotifyRule) => [...(one.jobs ?? []), ...(one.labels ?? []).map((label) => `label ${label}`)].join(", ") || "all jobs";
  const to = (one: NotifyRule) => [...(one.mail ?? []), ...(one.webhook ? [one.webhook + (one.signed ? " (signed)" : "")] : [])].join(", ");
</script>

<Head title="Messages" under="who is sent what, by mail or to a webhook" />
{#if running.problem}<div class="mb-3"><Problem problem={running.problem} /></div>{/if}
{#if said}<p class="mb-3 text-sm" role="status">{said}</p>{/if}
<Loaded of={rules}>{#snippet children(page)}
  <section class="panel mb-5" aria-labelledby="rules">
    <h2 id="rules">Rules</h2>
    {#if page.items.length}
      <div class="overflow-x-auto">
        <table class="table-sm table">
          <thead><tr><th>Rule</th><th>On</th><th>Of</th><th>Sent to</th><th>Quiet</th><th></th></tr></thead>
          <tbody>
            {#each page.items as one (one.name)}
              <tr>
                <td class="font-semibold whitespace-nowrap">{one.name}</td>
                <td class="min-w-32">{one.occasions.join(", ")}{#if one.remind_hours}<div class="text-base-content/75 text-xs">again after {one.remind_hours} h</div>{/if}</td>
                <td class="min-w-28 break-words">{of(one)}</td>
                <td class="min-w-40 [overflow-wrap:anywhere]">{to(one)}</td>
                <td class="whitespace-nowrap">{#if one.quiet_from}{one.quiet_from} to {one.quiet_to}<div class="text-base-content/75 text-xs">{one.quiet_zone}</div>{/if}</td>
                <td class="whitespace-nowrap">
                  {#if may("admin")}
                    <button class="btn btn-xs" aria-label="Send a test by {one.name}" onclick={() => test(one.name)}>Test</button>
                    <button class="btn btn-xs" aria-label="Remove {one.name}" onclick={() => remove(one.name)}>Remove</button>
                  {/if}
                </td>
              </tr>
            {/each}
          </tbody>
        </table>
      </div>
    {:else}
      <p class="px-4 py-4">No one is sent messages yet{may("admin") ? ": add a rule below" : ""}.</p>
    {/if}
  </section>
  {#if may("admin")}
    <form class="panel mb-5" onsubmit={save} aria-labelledby="new-rule">
      <h2 id="new-rule">Add a rule, or replace one</h2>
      <div class="flex flex-wrap items-end gap-x-4 gap-y-3 px-4 py-3">
        <label class="text-sm">name<br /><input class="input input-sm w-40" pattern="[a-z0-9]([a-z0-9_\-]*[a-z0-9])?" title="a-z, 0-9, - and _" bind:value={rule.name} required /></label>
        <label class="text-sm">mail to<br /><input class="input input-sm w-64" placeholder="wardens@huts.example" bind:value={rule.mail} /></label>
        <label class="text-sm">webhook<br /><input class="input input-sm w-64" placeholder="https://…" bind:value={rule.webhook} /></label>
        <label class="text-sm">its key<br /><input class="input input-sm w-40" type="password" autocomplete="off" placeholder="as it is" bind:value={rule.key} /></label>
        <fieldset class="w-full text-sm">
          <legend>on</legend>
          <div class="flex flex-wrap gap-x-5 gap-y-1">
            {#each OCCASIONS as [name, text] (name)}
              <label class="flex items-center gap-1.5" title={text}><input type="checkbox" class="checkbox checkbox-xs" value={name} bind:group={rule.occasions} />{name}</label>
            {/each}
          </div>
        </fieldset>
        <label class="text-sm">of these jobs<br /><input class="input input-sm w-48" placeholder="all" bind:value={rule.jobs} /></label>
        <label class="text-sm">of jobs with labels<br /><input class="input input-sm w-40" bind:value={rule.labels} /></label>
        <label class="text-sm">quiet from<br /><input class="input input-sm w-28" type="time" bind:value={rule.quiet_from} /></label>
        <label class="text-sm">until ({zone})<br /><input class="input input-sm w-28" type="time" bind:value={rule.quiet_to} /></label>
        <label class="text-sm">again after hours<br /><input class="input input-sm w-24" type="number" min="0" max="720" bind:value={rule.remind_hours} /></label>
        <button class="btn btn-sm btn-primary ml-auto">Save the rule</button>
      </div>
    </form>
  {/if}
  <section class="panel" aria-labelledby="sent">
    <h2 id="sent">The last messages</h2>
    {#if messages.length}
      <div class="overflow-x-auto">
        <table class="table-sm table">
          <thead><tr><th>Sent</th><th>Rule</th><th>Subject</th><th>What it says</th></tr></thead>
          <tbody>
            {#each messages as message (message.id)}
              <tr>
                <td class="whitespace-nowrap">
                  {#if message.sent_at}{moment(message.sent_at)}{:else}<span class="text-warning">◷ not yet</span><div class="text-base-content/75 text-xs">next try {moment(message.send_at)}</div>{/if}
                </td>
                <td class="whitespace-nowrap">{message.rule}</td>
                <td class="min-w-36 break-words">{message.subject}</td>
                <td class="min-w-56 [overflow-wrap:anywhere]">
                  {#each message.items.slice(0, 3) as item, place (place)}
                    <div>{#if item.run}<a class="plain underline" href="/runs/{item.run}">run {item.run}</a>: {" "}{/if}{item.text}</div>
                  {/each}
                  {#if message.items.length > 3}<div class="text-base-content/75 text-xs">and {message.items.length - 3} more</div>{/if}
                  {#if message.error}<div class="text-warning">{message.error}</div>{/if}
                </td>
              </tr>
            {/each}
          </tbody>
        </table>
      </div>
    {:else}
      <p class="px-4 py-4">None yet.</p>
    {/if}
  </section>
{/snippet}</Loaded>
