<script lang="ts">
  import type { Snippet } from "svelte";

  /** The head of a page: its title, which is the window's too, what stands next to it, and what can be done. */
  let {
    title,
    under = "",
    back,
    more,
    actions,
  }: { title: string; under?: string; back?: { href: string; name: string }; more?: Snippet; actions?: Snippet } = $props();
</script>

<svelte:head><title>{title} · Ultravect</title></svelte:head>
<header class="mb-3 flex flex-wrap items-center gap-x-3 gap-y-2 xl:flex-nowrap">
  <div class="min-w-0 [overflow-wrap:anywhere]">
    {#if back}<a class="plain text-xs" href={back.href}>{back.name}</a>{/if}
    <div class="flex flex-wrap items-center gap-x-3"><h1 class="text-lg leading-6 font-semibold">{title}</h1>{@render more?.()}</div>
    {#if under}<p class="text-base-content/75 text-xs">{under}</p>{/if}
  </div>
  {#if actions}<div class="ml-auto flex flex-wrap items-center gap-2 xl:flex-nowrap xl:shrink-0">{@render actions()}</div>{/if}
</header>
