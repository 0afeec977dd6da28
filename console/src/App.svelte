<script lang="ts">
  import { onMount } from "svelte";
  import { zoneName } from "./lib/format";
  import { NAVIGATION, pageAt } from "./lib/pages";
  import { route } from "./lib/router.svelte";
  import { recall, session, signOut } from "./lib/session.svelte";
  import GoTo from "./parts/GoTo.svelte";
  import SignIn from "./pages/SignIn.svelte";

  onMount(recall);
  let section = $derived(route.parts[0] ?? "today");
  // by its value: what is asked for after the ? is the page's own, which must not be made anew
  let address = $derived(JSON.stringify(route.parts));
  let found = $derived(pageAt(JSON.parse(address) as string[]));
  let shown = $derived(found?.load());
  let theme = $state(localStorage.getItem("theme") ?? "");
  let opened = $state(false);
  let going = $state(false);
  $effect(() => {
    if (theme) document.documentElement.dataset.theme = theme;
    else delete document.documentElement.dataset.theme;
    localStorage.setItem("theme", theme);
  });
  // a page that was chosen hides the menu of narrow windows
  $effect(() => {
    void address;
    opened = false;
  });
  const belongs = (path: string) => path === section || (path === "jobs" && section === "new-job") || (path === "connections" && section === "new-connection");

  function keys(event: KeyboardEvent) {
    if ((event.ctrlKey || event.metaKey) && event.key.toLowerCase() === "k" && session.user) {
      event.preventDefault();
      going = true;
    }
  }
</script>

<svelte:window onkeydown={keys} />

{#if session.user === undefined}
  <p class="p-8" role="status" aria-label="loading">…</p>
{:else if session.user === null}
  <SignIn />
{:else}
  <a href="#page" class="bg-base-100 sr-only p-2 focus:not-sr-only focus:fixed focus:z-50">To the page</a>
  <div class="bg-base-200 min-h-screen lg:grid lg:grid-cols-[10.5rem_minmax(0,1fr)]">
    <div class="border-base-300 bg-base-100 sticky top-0 z-30 flex items-center gap-2 border-b px-3 py-1.5 lg:hidden">
      <button class="btn btn-sm btn-ghost px-2" aria-expanded={opened} aria-controls="side" onclick={() => (opened = !opened)}>☰ <span class="sr-only">Menu</span></button>
      <a href="/today" class="flex items-center gap-2 font-semibold">{@render mark()}Ultravect</a>
      <button class="btn btn-sm btn-ghost ml-auto" onclick={() => (going = true)}>Go to …</button>
    </div>
    <aside
      id="side"
      class="border-base-300 bg-base-100 z-20 flex-col border-r px-2 pb-3 lg:sticky lg:top-0 lg:flex lg:h-screen lg:overflow-y-auto {opened ? 'flex' : 'hidden'}"
    >
      <a href="/today" class="hidden items-center gap-2 px-2 py-3 font-semibold tracking-tight lg:flex">{@render mark()}Ultravect</a>
      <button class="border-base-300 text-base-content/75 hover:border-primary mb-2 hidden items-center rounded border px-2 py-1 text-left text-xs lg:flex" onclick={() => (going = true)}>
        Go to … <kbd class="ml-auto font-sans">Ctrl K</kbd>
      </button>
      <nav aria-label="Sections">
        {#each NAVIGATION as group (group.name)}
          <p class="text-base-content/75 px-2 pt-2.5 pb-0.5 text-xs">{group.name}</p>
          {#each group.pages as page (page.path)}
            <a
              href="/{page.path}"
              aria-current={belongs(page.path) ? "page" : undefined}
              class="flex items-center gap-2 rounded border-l-2 px-2 py-1 {belongs(page.path)
                ? 'border-primary bg-base-200 font-semibold'
                : 'hover:bg-base-200 border-transparent'}"
            >
              <svg viewBox="0 0 16 16" class="size-4 shrink-0 fill-none stroke-current stroke-[1.3]" aria-hidden="true"><path d={page.sign} /></svg>{page.name}
            </a>
          {/each}
        {/each}
      </nav>
      <div class="text-base-content/80 mt-auto space-y-1.5 px-2 pt-4 text-xs">
        <p class="flex gap-3"><a class="plain" href="/docs/">Docs</a><a class="plain" href="/api/docs">API</a></p>
        <p>
          <label class="sr-only" for="theme">Colours</label>
          <select id="theme" class="select select-xs w-full" bind:value={theme}>
            <option value="">system colours</option>
            <option value="day">day</option>
            <option value="night">night</option>
          </select>
        </p>
        <p title="times on these pages are of this zone">Times: {zoneName}</p>
        <p class="flex flex-wrap items-baseline gap-x-2">
          <span title="role: {session.user.role}" class="min-w-0 [overflow-wrap:anywhere]">{session.user.name}</span>
          <button class="plain cursor-pointer underline-offset-2 hover:underline" onclick={signOut}>Sign out</button>
        </p>
      </div>
    </aside>
    <main id="page" tabindex="-1" class="mx-auto w-full max-w-[100rem] min-w-0 px-3 py-4 outline-none sm:px-5">
      {#if found && shown}
        {#await shown then page}
          {#key JSON.stringify(found.props)}<page.default {...found.props} />{/key}
        {:catch}
          <p class="panel px-4 py-6">This page could not be loaded: the service may have been upgraded. <button class="btn btn-sm" onclick={() => location.reload()}>Load it anew</button></p>
        {/await}
      {:else}
        <p class="panel px-4 py-6">There is nothing at this address. <a class="plain" href="/jobs">See the jobs</a>.</p>
      {/if}
    </main>
  </div>
  {#if going}<GoTo close={() => (going = false)} />{/if}
{/if}

{#snippet mark()}<svg viewBox="0 0 16 16" class="fill-primary size-5" aria-hidden="true"><path d="M1 13 6 4l3 5 2-3 4 7z" /></svg>{/snippet}
