<script lang="ts">
  import { onMount } from "svelte";
  import { route } from "./lib/router.svelte";
  import { recall, session, signOut } from "./lib/session.svelte";
  import Access from "./pages/Access.svelte";
  import Connection from "./pages/Connection.svelte";
  import Connections from "./pages/Connections.svelte";
  import Feed from "./pages/Feed.svelte";
  import Feeds from "./pages/Feeds.svelte";
  import Job from "./pages/Job.svelte";
  import Jobs from "./pages/Jobs.svelte";
  import Layouts from "./pages/Layouts.svelte";
  import Look from "./pages/Look.svelte";
  import Messages from "./pages/Messages.svelte";
  import NewConnection from "./pages/NewConnection.svelte";
  import NewJob from "./pages/NewJob.svelte";
  import Run from "./pages/Run.svelte";
  import Runs from "./pages/Runs.svelte";
  import Schedules from "./pages/Schedules.svelte";
  import SignIn from "./pages/SignIn.svelte";
  import Stream from "./pages/Stream.svelte";
  import Streams from "./pages/Streams.svelte";
  import Today from "./pages/Today.svelte";

  onMount(recall);
  const NAV = [
    ["today", "Today"],
    ["jobs", "Jobs"],
    ["runs", "Runs"],
    ["streams", "Streams"],
    ["schedules", "Schedules"],
    ["feeds", "Feeds"],
    ["connections", "Connections"],
    ["layouts", "Layouts"],
    ["messages", "Messages"],
    ["access", "Access"],
  ] as const;
  let section = $derived(route.parts[0] ?? "today");
  let item = $derived(route.parts[1]);
  let theme = $state(localStorage.getItem("theme") ?? "");
  $effect(() => {
    if (theme) document.documentElement.dataset.theme = theme;
    else delete document.documentElement.dataset.theme;
    localStorage.setItem("theme", theme);
  });
  $effect(() => {
    document.title = item ? `${item} · ${section} · Ultravect` : `${section} · Ultravect`;
  });
</script>

{#if session.user === undefined}
  <p class="p-8" role="status">…</p>
{:else if session.user === null}
  <SignIn />
{:else}
  <div class="bg-base-200 min-h-screen">
    <header class="border-base-300 bg-base-100 border-b">
      <div class="mx-auto flex max-w-6xl flex-wrap items-center gap-x-4 px-5">
        <a href="#/today" class="flex items-center gap-2 py-2.5 font-semibold tracking-tight">
          <svg viewBox="0 0 16 16" class="fill-primary size-5" aria-hidden="true"><path d="M1 13 6 4l3 5 2-3 4 7z" /></svg>
          Ultravect
        </a>
        <nav class="order-last flex w-full flex-wrap gap-x-1 sm:order-none sm:w-auto" aria-label="Sections">
          {#each NAV as [path, name] (path)}
            <a
              href="#/{path}"
              aria-current={section === path ? "page" : undefined}
              class="border-b-2 px-1.5 py-2.5 {section === path
                ? 'border-primary font-semibold'
                : 'hover:border-base-300 border-transparent'}">{name}</a
            >
          {/each}
        </nav>
        <div class="ml-auto flex flex-wrap items-center gap-3 py-1 text-sm">
          <a class="plain" href="/api/docs">API</a>
          <label class="sr-only" for="theme">Colours</label>
          <select id="theme" class="select select-xs w-24" bind:value={theme}>
            <option value="">system</option>
            <option value="day">day</option>
            <option value="night">night</option>
          </select>
          <span title="role: {session.user.role}">{session.user.name}</span>
          <button class="btn btn-ghost btn-xs" onclick={signOut}>Sign out</button>
        </div>
      </div>
    </header>
    <main class="mx-auto {section === "connections" && route.parts[2] === "look" ? "max-w-[96rem]" : "max-w-6xl"} px-3 py-5 sm:px-5">
      {#if section === "jobs" && item}
        {#key item}<Job name={item} />{/key}
      {:else if section === "today"}
        <Today />
      {:else if section === "streams" && item}
        {#key item}<Stream name={item} />{/key}
      {:else if section === "streams"}
        <Streams />
      {:else if section === "schedules"}
        <Schedules />
      {:else if section === "messages"}
        <Messages />
      {:else if section === "jobs"}
        <Jobs />
      {:else if section === "new-job"}
        <NewJob />
      {:else if section === "access"}
        <Access />
      {:else if section === "runs" && item}
        {#key item}<Run number={Number(item)} />{/key}
      {:else if section === "runs"}
        <Runs />
      {:else if section === "connections" && item && route.parts[2] === "look" && route.parts[3]}
        {#key route.parts[3]}<Look connection={item} object={route.parts[3]} />{/key}
      {:else if section === "connections" && item === "new"}
        <NewConnection />
      {:else if section === "connections" && item}
        {#key item}<Connection name={item} />{/key}
      {:else if section === "feeds" && item}
        {#key item}<Feed name={item} />{/key}
      {:else if section === "feeds"}
        <Feeds />
      {:else if section === "layouts"}
        <Layouts />
      {:else if section === "connections"}
        <Connections />
      {:else}
        <p>There is nothing at this address. <a class="plain" href="#/jobs">See the jobs</a>.</p>
      {/if}
    </main>
  </div>
{/if}
