<script lang="ts">
  import { post, problemOf } from "../lib/api";
  import { load } from "../lib/load.svelte";
  import { NAVIGATION } from "../lib/pages";
  import { askPage, connectionPage, jobPage, query, runPage, streamPage } from "../lib/places";
  import { go } from "../lib/router.svelte";
  import { may } from "../lib/session.svelte";
  import type { Connection, JobLine, Page, Run } from "../lib/types";

  /** One field that leads to every page and thing, and does what is done often. */
  let { close }: { close: () => void } = $props();
  let typed = $state("");
  let at = $state(0);
  let said = $state("");
  let dialog: HTMLDialogElement;

  interface Way {
    what: string;
    name: string;
    do: () => void;
  }
  const jobs = load<Page<JobLine>>(() => `jobs${query({ page_size: 20, search: typed.trim() })}`, { rest: 120 });
  const connections = load<Page<Connection>>(() => "connections?page_size=200");
  const to = (path: string) => () => {
    close();
    go(path);
  };
  const fits = (name: string) => name.toLowerCase().includes(typed.trim().toLowerCase());

  async function run(job: string) {
    try {
      const started = await post<Run>(`jobs/${encodeURIComponent(job)}/runs`);
      to(runPage(started.id))();
    } catch (error) {
      said = problemOf(error).detail;
    }
  }
  let ways = $derived.by(() => {
    const found: Way[] = [];
    if (/^\d+$/.test(typed.trim())) found.push({ what: "run", name: typed.trim(), do: to(runPage(Number(typed))) });
    const pages = [...NAVIGATION.flatMap((group) => group.pages), { path: "new-job", name: "New job" }, { path: "new-connection", name: "New connection" }];
    found.push(...pages.filter((page) => fits(page.name)).map((page) => ({ what: "page", name: page.name, do: to(`/${page.path}`) })));
    for (const job of (jobs.data?.items ?? []).filter((one) => fits(one.name)).slice(0, 12)) {
      found.push({ what: "job", name: job.name, do: to(jobPage(job.name)) });
      if (job.stream !== null) found.push({ what: "stream", name: job.name, do: to(streamPage(job.name)) });
      else if (typed.trim() && may("operator")) found.push({ what: "run now", name: job.name, do: () => void run(job.name) });
    }
    for (const one of (connections.data?.items ?? []).filter((one) => fits(one.name)).slice(0, 12)) {
      found.push({ what: "connection", name: one.name, do: to(connectionPage(one.name)) });
      if (typed.trim() && one.holds === "tables" && may("operator")) found.push({ what: "ask", name: one.name, do: to(askPage(one.name)) });
    }
    return found.slice(0, 30);
  });
  $effect(() => {
    void typed;
    at = 0;
  });
  $effect(() => {
    dialog.showModal();
    return () => dialog.close();
  });
  function keys(event: KeyboardEvent) {
    const by = { ArrowDown: 1, ArrowUp: -1 }[event.key];
    if (by !== undefined && ways.length) {
      event.preventDefault();
      at = (at + by + ways.length) % ways.length;
      document.getElementById(`way-${at}`)?.scrollIntoView({ block: "nearest" });
    } else if (event.key === "Enter") {
      event.preventDefault();
      ways[at]?.do();
    }
  }
</script>

<!-- svelte-ignore a11y_no_noninteractive_element_interactions, a11y_click_events_have_key_events -->
<dialog
  bind:this={dialog}
  aria-label="Go to"
  class="bg-base-100 text-base-content border-base-300 mx-auto mt-[12vh] w-full max-w-lg rounded border p-0 shadow-xl backdrop:bg-black/40"
  oncancel={close}
  onclick={(event) => event.target === dialog && close()}
>
  <!-- svelte-ignore a11y_autofocus -->
  <input
    autofocus
    class="input input-ghost border-base-300 w-full rounded-none border-0 border-b focus:outline-none"
    placeholder="a page, a job, a connection, the number of a run"
    role="combobox"
    aria-label="Go to"
    aria-expanded="true"
    aria-controls="ways"
    aria-activedescendant="way-{at}"
    bind:value={typed}
    onkeydown={keys}
  />
  {#if said}<p role="alert" class="text-error px-3 py-2 text-sm">{said}</p>{/if}
  <ul id="ways" role="listbox" aria-label="What was found" class="max-h-[50vh] overflow-y-auto py-1">
    {#each ways as way, place (way.what + way.name)}
      <!-- svelte-ignore a11y_click_events_have_key_events -->
      <li
        id="way-{place}"
        role="option"
        aria-selected={place === at}
        class="flex cursor-pointer items-baseline gap-3 px-3 py-1 {place === at ? 'bg-base-200' : ''}"
        onpointermove={() => (at = place)}
        onclick={way.do}
      >
        <span class="text-base-content/75 w-20 shrink-0 text-xs">{way.what}</span><span class="min-w-0 [overflow-wrap:anywhere]">{way.name}</span>
      </li>
    {:else}
      <li class="text-base-content/75 px-3 py-2" role="option" aria-selected="false">Nothing of that name.</li>
    {/each}
  </ul>
</dialog>
