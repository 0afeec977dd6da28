<script lang="ts">
  import { exchange, post } from "../lib/api";
  import { moment } from "../lib/format";
  import { Doing, load } from "../lib/load.svelte";
  import { may, session } from "../lib/session.svelte";
  import type { Account, AuditEntry, KnownToken, Page } from "../lib/types";
  import Head from "../parts/Head.svelte";
  import Loaded from "../parts/Loaded.svelte";
  import Problem from "../parts/Problem.svelte";

  const ROLES = ["viewer", "operator", "editor", "admin"];
  const known = load<KnownToken[] | Page<KnownToken>>(() => (may("admin") ? "users-tokens?page_size=200" : "tokens"));
  let tokens = $derived(Array.isArray(known.data) ? known.data : (known.data?.items ?? []));
  const users = load<Page<Account>>(() => (may("admin") ? "users?page_size=200" : null));
  const audit = load<Page<AuditEntry>>(() => (may("admin") ? "audit?page_size=50" : null));
  const doing = new Doing();
  let made = $state("");
  let token = $state({ label: "", role: "", days: "", sites: "" });
  const JOINING = "workers";
  let account = $state({ name: "", role: "operator", password: "" });

  async function act(action: () => Promise<unknown>) {
    await doing.do("change", action);
    [known, users, audit].forEach((one) => one.again());
  }

  const issue = () =>
    act(async () => {
      const asked = {
        label: token.label,
        ...(token.role === JOINING ? { sites: token.sites.split(/[\s,]+/).filter(Boolean) } : token.role ? { role: token.role } : {}),
        ...(token.days ? { days: Number(token.days) } : {}),
      };
      made = (await post<{ token: string }>("tokens", asked)).token;
      token = { label: "", role: "", days: "", sites: "" };
    });
  const add = () =>
    act(async () => {
      await post("users", account);
      account = { name: "", role: "operator", password: "" };
    });
  const change = (name: string, json: unknown) => act(() => exchange("PATCH", `users/${encodeURIComponent(name)}`, { json }));
</script>

<Head title="Access" under="who may do what, by which tokens, and what was done" />
{#if doing.problem}<div class="mb-3"><Problem problem={doing.problem} /></div>{/if}
<Loaded of={known}>{#snippet children()}

<section class="panel mb-4">
  <h2>{may("admin") ? "Tokens of all users" : "Your tokens"}</h2>
  <div class="overflow-x-auto">
    <table class="table-sm table">
      <thead><tr><th>Label</th><th>Owner</th><th>May do</th><th>Made</th><th>Used</th><th>Expires</th><th></th></tr></thead>
      <tbody>
        {#each tokens as one (one.id)}
          <tr>
            <td class="min-w-32 break-words">{one.label}</td>
            <td>{one.owner}</td>
            <td class="whitespace-nowrap">{one.sites.length ? `join workers of ${one.sites.join(", ")}` : one.role || "as its owner"}</td>
            <td class="whitespace-nowrap">{moment(one.created_at)}</td>
            <td class="whitespace-nowrap">{one.used_at ? moment(one.used_at) : "never"}</td>
            <td class="whitespace-nowrap">{one.expires_at ? moment(one.expires_at) : "never"}</td>
            <td class="num">
              <button class="btn btn-xs" onclick={() => confirm(`Withdraw the token ${one.label}?`) && act(() => exchange("DELETE", `tokens/${one.id}`))}>Withdraw</button>
            </td>
          </tr>
        {:else}
          <tr><td colspan="7">No tokens.</td></tr>
        {/each}
      </tbody>
    </table>
  </div>
  {#if made}
    <p class="border-base-300 border-t px-3.5 py-2" data-testid="token">The token, shown this once: <code class="break-all">{made}</code></p>
  {/if}
  <form class="border-base-300 flex flex-wrap items-end gap-3 border-t px-3.5 py-2.5" onsubmit={(event) => { event.preventDefault(); void issue(); }}>
    <label class="text-sm">label<br /><input class="input input-sm w-48" bind:value={token.label} required /></label>
    <label class="text-sm">may do<br />
      <select class="select select-sm w-36" bind:value={token.role}>
        <option value="">all that I may</option>
        {#each ROLES.filter((role) => may(role as Account["role"])) as role (role)}<option>{role}</option>{/each}
        {#if may("admin")}<option value={JOINING}>join workers</option>{/if}
      </select>
    </label>
    {#if token.role === JOINING}
      <label class="text-sm">of the sites<br /><input class="input input-sm w-44" bind:value={token.sites} placeholder="lab depot" required /></label>
    {/if}
    <label class="text-sm">expires after days<br /><input class="input input-sm w-36" type="number" min="1" max="3650" placeholder="never" bind:value={token.days} /></label>
    <button class="btn btn-sm">Make a token</button>
  </form>
</section>

{#if may("admin")}
  <section class="panel mb-4">
    <h2>Users</h2>
    <div class="overflow-x-auto">
      <table class="table-sm table">
        <thead><tr><th>User</th><th>Role</th><th>State</th><th>Last sign-in</th><th></th></tr></thead>
        <tbody>
          {#each users.data?.items ?? [] as one (one.name)}
            <tr>
              <td>{one.name}{one.name === session.user?.name ? " (you)" : ""}</td>
              <td>
                <select class="select select-xs w-28" aria-label="role of {one.name}" value={one.role} onchange={(event) => change(one.name, { role: event.currentTarget.value })}>
                  {#each ROLES as role (role)}<option>{role}</option>{/each}
                </select>
              </td>
              <td>{one.active ? "active" : "disabled"}</td>
              <td class="whitespace-nowrap">{one.last_login ? moment(one.last_login) : "never"}</td>
              <td class="num">
                <button class="btn btn-xs" onclick={() => change(one.name, { active: !one.active })}>{one.active ? "Disable" : "Enable"}</button>
              </td>
            </tr>
          {/each}
        </tbody>
      </table>
    </div>
    <form class="border-base-300 flex flex-wrap items-end gap-3 border-t px-3.5 py-2.5" onsubmit={(event) => { event.preventDefault(); void add(); }}>
      <label class="text-sm">name<br /><input class="input input-sm w-40" bind:value={account.name} required /></label>
      <label class="text-sm">role<br />
        <select class="select select-sm w-28" bind:value={account.role}>{#each ROLES as role (role)}<option>{role}</option>{/each}</select>
      </label>
      <label class="text-sm">password<br /><input class="input input-sm w-48" type="password" autocomplete="new-password" bind:value={account.password} required /></label>
      <button class="btn btn-sm">Add a user</button>
    </form>
  </section>

  <section class="panel">
    <h2>What was done</h2>
    <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
    <div class="overflow-x-auto" tabindex="0" role="region" aria-label="What was done">
      <table class="table-sm table">
        <thead><tr><th>At</th><th>User</th><th>From</th><th>Did</th><th>To</th><th>Detail</th></tr></thead>
        <tbody>
          {#each audit.data?.items ?? [] as one (one.id)}
            <tr>
              <td class="whitespace-nowrap">{moment(one.at)}</td>
              <td>{one.user}</td>
              <td class="whitespace-nowrap">{one.address}</td>
              <td class="whitespace-nowrap">{one.action}</td>
              <td class="min-w-40 break-words">{one.kind} {one.name}</td>
              <td class="text-base-content/75 min-w-40 break-words">{Object.entries(one.detail).map(([key, value]) => `${key} ${String(value)}`).join(", ")}</td>
            </tr>
          {/each}
        </tbody>
      </table>
    </div>
  </section>
{/if}
{/snippet}</Loaded>
