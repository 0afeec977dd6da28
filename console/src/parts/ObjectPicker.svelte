<script lang="ts">
  import { count, bytes } from "../lib/format";
  import { load } from "../lib/load.svelte";
  import { api } from "../lib/places";
  import type { ObjectPage } from "../lib/types";

  /** A field for the name of a table or file: what the connection holds is listed as one types; a name that is not there is fine. */
  let {
    id,
    connection,
    value,
    readonly = false,
    placeholder = "",
    required = false,
    choose,
  }: { id: string; connection: string; value: string; readonly?: boolean; placeholder?: string; required?: boolean; choose: (name: string) => void } = $props();
  const MOST = 50;
  // svelte-ignore state_referenced_locally
  let typed = $state(value);
  let open = $state(false);
  let at = $state(-1);
  $effect(() => {
    typed = value;
  });
  const found = load<ObjectPage>(() => (open && connection ? api(connection, "/objects", { search: typed === value ? "" : typed.trim(), alike: true, limit: 500 }) : null), { rest: 150 });
  let items = $derived((found.data?.items ?? []).slice(0, MOST));

  function take(name: string) {
    typed = name;
    open = false;
    if (name !== value) choose(name);
  }
  function keys(event: KeyboardEvent) {
    const by = { ArrowDown: 1, ArrowUp: -1 }[event.key];
    if (by && open && items.length) {
      event.preventDefault();
      at = (at + by + items.length) % items.length;
      document.getElementById(`${id}-${at}`)?.scrollIntoView({ block: "nearest" });
    } else if (by) open = true;
    else if (event.key === "Enter" && open && at >= 0) {
      event.preventDefault();
      take(items[at]?.name ?? typed);
    } else if (event.key === "Enter") take(typed.trim());
    else if (event.key === "Escape" && open) {
      event.stopPropagation();
      open = false;
    }
  }
</script>

<div class="relative w-full">
  <input
    {id}
    class="input input-sm w-full font-mono"
    {readonly}
    {placeholder}
    {required}
    autocomplete="off"
    role="combobox"
    aria-expanded={open && items.length > 0}
    aria-controls="{id}-list"
    aria-activedescendant={at >= 0 ? `${id}-${at}` : undefined}
    value={typed}
    onfocus={() => (open = !readonly)}
    onblur={() => {
      open = false;
      if (typed.trim() !== value) choose(typed.trim());
    }}
    oninput={(event) => {
      typed = event.currentTarget.value;
      [open, at] = [true, -1];
    }}
    onkeydown={keys}
  />
  {#if open && items.length}
    <ul id="{id}-list" role="listbox" aria-label="what {connection} holds" class="bg-base-100 border-base-300 absolute z-40 max-h-64 w-full min-w-64 overflow-auto rounded border shadow-lg">
      {#each items as one, place (one.name)}
        <!-- svelte-ignore a11y_click_events_have_key_events -->
        <li
          id="{id}-{place}"
          role="option"
          aria-selected={place === at}
          class="flex cursor-pointer items-baseline gap-2 px-2 py-0.5 {place === at ? 'bg-base-200' : ''}"
          onpointermove={() => (at = place)}
          onpointerdown={(event) => {
            event.preventDefault();
            take(one.name);
          }}
        >
          <span class="min-w-0 font-mono [overflow-wrap:anywhere]">{one.name}</span>
          <span class="text-base-content/75 ml-auto text-xs whitespace-nowrap">{one.rows ? `about ${count(one.rows)} rows` : one.files ? `${count(one.files)} files` : one.size ? bytes(one.size) : ""}</span>
        </li>
      {/each}
    </ul>
  {/if}
</div>
