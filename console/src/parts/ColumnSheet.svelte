<script lang="ts">
  import { apart, itemsOf, plain, quoted, RENAMINGS, together, TYPES, withItems, type Item } from "../lib/columns";
  import type { Check, Rehearsal } from "../lib/types";

  let {
    text = $bindable(),
    check,
    rehearsal,
    readonly = false,
  }: { text: string; check: Check | null; rehearsal: Rehearsal | null; readonly?: boolean } = $props();

  let items = $derived(itemsOf(text));
  let rows = $derived((items ?? []).map((item, index) => ({ index, item, parts: apart(item), star: item.trim().startsWith("*") })));
  let search = $state("");
  let before = $state<string[]>([]);
  let affix = $state("");
  let shown = $derived(rows.filter((row) => row.item.toLowerCase().includes(search.toLowerCase())));
  let hasStar = $derived(rows.some((row) => row.star));
  const SAMPLES = 3;

  function change(changed: string[]) {
    before = [...before.slice(-49), text];
    text = withItems(text, changed);
  }
  function undo() {
    const last = before.at(-1);
    if (last === undefined) return;
    before = before.slice(0, -1);
    text = last;
  }
  function put(index: number, parts: Partial<Item>) {
    const all = [...(items ?? [])];
    all[index] = together({ ...apart(all[index] ?? ""), ...parts });
    change(all);
  }
  function drop(index: number) {
    change((items ?? []).filter((_, at) => at !== index));
  }
  function move(index: number, by: number) {
    const all = [...(items ?? [])];
    all.splice(index + by, 0, ...all.splice(index, 1));
    change(all);
  }
  /** Every column that the stars stand for, as an item of its own. */
  function spread() {
    const named = new Set(rows.filter((row) => !row.star).map((row) => targetName(row.parts)));
    const others = (check?.columns ?? []).filter((column) => !named.has(column.name));
    change((items ?? []).flatMap((item) => (item.trim().startsWith("*") ? others.map((one) => `${quoted(one.source)} ${one.type}`) : [item])));
  }
  function targetName(parts: Item): string {
    return plain(parts.name || parts.expression);
  }
  function rename(form: (name: string) => string) {
    change((items ?? []).map((item) => {
      if (item.trim().startsWith("*")) return item;
      const parts = apart(item);
      return together({ ...parts, name: quoted(form(targetName(parts))) });
    }));
  }
  function checked(parts: Item) {
    return check?.columns.find((column) => column.name === targetName(parts));
  }
  function samples(parts: Item): string {
    if (!rehearsal) return "";
    const at = rehearsal.target_columns.findIndex((column) => column.name === targetName(parts));
    if (at < 0) return "";
    const source = rehearsal.source_columns.indexOf(rehearsal.target_columns[at]?.source ?? "");
    const values = rehearsal.rows.slice(0, SAMPLES).map((row) => (source >= 0 ? row.before[source] : row.after[at]));
    return values.map((value) => value ?? "NULL").join(" · ");
  }
</script>

{#if items === null}
  <p class="text-base-content/70 px-3.5 py-2 text-sm">The job file cannot be read as it is; the sheet comes back when it can.</p>
{:else}
  <div class="border-base-300 flex flex-wrap items-center gap-2 border-b px-3.5 py-2">
    <input class="input input-xs w-40" placeholder="filter" aria-label="filter columns" bind:value={search} />
    {#if !readonly}
      <button class="btn btn-xs" onclick={() => change([...(items ?? []), "'' as new_column text"])}>+ Add</button>
      <button class="btn btn-xs" onclick={undo} disabled={!before.length}>↶ Undo</button>
      {#if hasStar}<button class="btn btn-xs" onclick={spread} disabled={!check?.columns.length}>List every column</button>{/if}
      <span class="text-base-content/60 ml-2 text-xs">rename all:</span>
      {#each Object.entries(RENAMINGS) as [label, form] (label)}
        <button class="btn btn-xs" onclick={() => rename(form)}>{label}</button>
      {/each}
      <input class="input input-xs w-24" placeholder="prefix_" aria-label="prefix" bind:value={affix} />
      <button class="btn btn-xs" disabled={!affix} onclick={() => rename((name) => affix + name)}>put in front</button>
    {/if}
  </div>
  <div class="max-h-96 overflow-auto">
    <table class="table-xs table" data-testid="sheet">
      <thead class="bg-base-100 sticky top-0 z-10">
        <tr><th>Column or expression</th><th>First values</th><th>Target name</th><th>Type</th><th>In the target</th><th><span class="sr-only">actions</span></th></tr>
      </thead>
      <tbody>
        {#each shown as row (row.index)}
          <tr>
            <td class="min-w-40">
              <input class="input input-xs w-full font-mono" aria-label="expression {row.index + 1}" {readonly} value={row.star ? row.item : row.parts.expression}
                onchange={(event) => (row.star ? change((items ?? []).map((one, at) => (at === row.index ? event.currentTarget.value : one))) : put(row.index, { expression: event.currentTarget.value }))} />
            </td>
            {#if row.star}
              <td colspan="4" class="text-base-content/70">all columns that no other line names{row.item.includes("except") ? ", but those" : ""}</td>
            {:else}
              {@const found = checked(row.parts)}
              <td class="text-base-content/70 max-w-44 overflow-hidden font-mono text-ellipsis whitespace-nowrap" title={samples(row.parts)}>{samples(row.parts)}</td>
              <td class="min-w-28">
                <input class="input input-xs w-full font-mono" aria-label="target name {row.index + 1}" {readonly} value={row.parts.name || row.parts.expression}
                  onchange={(event) => put(row.index, { name: event.currentTarget.value })} />
              </td>
              <td class="min-w-28">
                <input class="input input-xs w-full font-mono" aria-label="type {row.index + 1}" list={found?.choices.length ? `types-${row.index}` : "types"} {readonly} placeholder={found?.type ?? ""} value={row.parts.type}
                  onchange={(event) => put(row.index, { type: event.currentTarget.value })} />
                {#if found?.choices.length}
                  <datalist id="types-{row.index}">
                    {#each found.choices as choice (choice.type)}
                      <option value={choice.type} label="{choice.type}: {choice.fit}, {choice.native} in the target{choice.change ? `; ${choice.change}` : ''}"></option>
                    {/each}
                  </datalist>
                {/if}
              </td>
              <td class="max-w-56 text-xs">
                {#if found}<span class="font-mono">{found.native}</span> <span class="text-base-content/60">{found.evidence}</span>{/if}
              </td>
            {/if}
            <td class="whitespace-nowrap">
              {#if !readonly}
                <button class="btn btn-ghost btn-xs px-1" aria-label="up {row.index + 1}" disabled={row.index === 0} onclick={() => move(row.index, -1)}>↑</button>
                <button class="btn btn-ghost btn-xs px-1" aria-label="down {row.index + 1}" disabled={row.index === rows.length - 1} onclick={() => move(row.index, 1)}>↓</button>
                <button class="btn btn-ghost btn-xs px-1" aria-label="drop {row.index + 1}" disabled={rows.length === 1} onclick={() => drop(row.index)}>✕</button>
              {/if}
            </td>
          </tr>
        {:else}
          <tr><td colspan="6">No column matches.</td></tr>
        {/each}
      </tbody>
    </table>
  </div>
  <datalist id="types">{#each TYPES as type (type)}<option value={type}></option>{/each}</datalist>
{/if}
