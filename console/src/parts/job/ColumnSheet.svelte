<script lang="ts">
  import { tick } from "svelte";
  import { apart, MASKS, plain, quoted, RENAMINGS, together, TYPES, type Item } from "../../lib/columns";
  import { count } from "../../lib/format";
  import { proposals } from "../../lib/near";
  import type { Check, Edit, Finding, Rehearsal } from "../../lib/types";
  import Findings from "../Findings.svelte";
  import Rows from "../Rows.svelte";

  /** The select list of a job as a sheet: a line a column, quick with hundreds of them, by mouse and by keyboard. */
  let {
    items,
    check,
    rehearsal,
    sources,
    targets,
    change,
    undo,
    undoable,
    apply,
    readonly = false,
  }: {
    items: string[] | null;
    check: Check | null;
    rehearsal: Rehearsal | null;
    /** Columns of the source, as far as they are known. */
    sources: string[];
    /** Columns of the target table, where it is there. */
    targets: string[];
    change: (items: string[]) => void;
    undo: () => void;
    undoable: boolean;
    apply?: (edit: Edit) => void;
    readonly?: boolean;
  } = $props();

  interface Line {
    index: number;
    item: string;
    parts: Item;
    star: boolean;
    name: string;
    /** What there is to mind: 2 an error, 1 a warning, 0 nothing. */
    weight: number;
    findings: Finding[];
  }
  const FITS: Record<string, [string, string, number]> = { exact: ["=", "text-success", 0], wider: ["<", "text-base-content/80", 0], narrower: ["!", "text-warning", 1], different: ["≠", "text-warning", 1] };
  const SAMPLES = 4;
  const targetName = (parts: Item) => plain(parts.name || parts.expression);

  let filter = $state("");
  let minded = $state(false);
  let picked = $state<number[]>([]);
  let anchor = 0;
  let at = $state(0);
  let affix = $state("");
  let dragged = $state(-1);
  let over = $state(-1);
  let columns = $derived(new Map((check?.columns ?? []).map((one) => [one.name, one])));
  /** Findings by the place of the item that they are about. */
  let found = $derived.by(() => {
    const by = new Map<number, Finding[]>();
    for (const one of check?.findings ?? []) {
      const [section, number] = one.place.split(".");
      if (section === "columns" && number !== undefined && one.severity !== "note") by.set(Number(number), [...(by.get(Number(number)) ?? []), one]);
    }
    return by;
  });
  let lines = $derived(
    (items ?? []).map((item, index): Line => {
      const parts = apart(item);
      const star = item.trim().startsWith("*");
      const name = star ? "" : targetName(parts);
      const findings = found.get(index) ?? [];
      const fit = FITS[columns.get(name)?.fit ?? ""]?.[2] ?? 0;
      const weight = findings.some((one) => one.severity === "error") ? 2 : findings.length ? 1 : fit;
      return { index, item, parts, star, name, weight, findings };
    }),
  );
  let shown = $derived.by(() => {
    const wanted = filter.trim().toLowerCase();
    const some = wanted ? lines.filter((line) => line.item.toLowerCase().includes(wanted)) : lines;
    return minded ? [...some].sort((a, b) => b.weight - a.weight || a.index - b.index) : some;
  });
  let attention = $derived(lines.filter((line) => line.weight).length);
  let stars = $derived(lines.some((line) => line.star));
  let current = $derived(lines[at]);
  /** Columns of the target that no line fills; and of the source, that none takes. */
  let unfilled = $derived.by(() => {
    const names = new Set(check?.columns.map((one) => one.name) ?? lines.map((line) => line.name));
    return targets.filter((name) => !names.has(name));
  });
  let near = $derived(proposals(unfilled, lines.filter((line) => !line.star && !targets.includes(line.name)).map((line) => line.name)));
  let unused = $derived.by(() => {
    if (stars) return [];
    const taken = new Set([...(check?.columns ?? []).map((one) => one.source), ...lines.map((line) => plain(line.parts.expression))]);
    const computed = lines.filter((line) => !sources.includes(plain(line.parts.expression))).map((line) => line.parts.expression);
    return sources.filter((name) => !taken.has(name) && !computed.some((expression) => expression.includes(name)));
  });

  function put(index: number, parts: Partial<Item>) {
    const all = [...(items ?? [])];
    all[index] = together({ ...apart(all[index] ?? ""), ...parts });
    if (all[index] !== items?.[index]) change(all);
  }
  function putAll(form: (parts: Item, line: Line) => Item) {
    const wanted = new Set(picked.length ? picked : lines.map((line) => line.index));
    change(lines.map((line) => (line.star || !wanted.has(line.index) ? line.item : together(form(line.parts, line)))));
  }
  function drop(indexes: number[]) {
    const left = (items ?? []).filter((_, index) => !indexes.includes(index));
    if (!left.length) return;
    picked = [];
    at = Math.min(at, left.length - 1);
    change(left);
  }
  /** Moves lines before the one that stands at `to`; picked ones go together. */
  function move(indexes: number[], to: number) {
    const all = [...(items ?? [])];
    const moved = indexes.map((index) => all[index]!);
    const before = all.slice(0, to).filter((_, index) => !indexes.includes(index));
    const after = all.slice(to).filter((_, index) => !indexes.includes(index + to));
    change([...before, ...moved, ...after]);
    if (picked.length) picked = moved.map((_, place) => before.length + place);
    at = before.length;
  }
  const step = (by: number) => {
    const group = picked.includes(at) ? [...picked].sort((a, b) => a - b) : [at];
    if (by < 0 ? group[0]! > 0 : group.at(-1)! < lines.length - 1) move(group, by < 0 ? group[0]! - 1 : group.at(-1)! + 2);
  };
  const rename = (form: (name: string) => string) => putAll((parts) => ({ ...parts, name: quoted(form(targetName(parts))) }));
  /** Every column that the stars stand for, as an item of its own. */
  function spread() {
    const named = new Set(lines.filter((line) => !line.star).map((line) => line.name));
    const others = (check?.columns ?? []).filter((column) => !named.has(column.name));
    change(lines.flatMap((line) => (line.star ? others.map((one) => `${quoted(one.source)} ${one.type}`) : [line.item])));
  }
  function accept(pairs: typeof near) {
    change(lines.map((line) => {
      const pair = pairs.find((one) => one.found === line.name && !line.star);
      return pair ? together({ ...line.parts, name: quoted(pair.wanted) }) : line.item;
    }));
  }
  function pick(index: number, event: MouseEvent) {
    const range = event.shiftKey && picked.length;
    if (range) {
      const order = shown.map((line) => line.index);
      const [from, to] = [order.indexOf(anchor), order.indexOf(index)].sort((a, b) => a - b);
      picked = [...new Set([...picked, ...order.slice(from, to! + 1)])];
    } else {
      picked = picked.includes(index) ? picked.filter((one) => one !== index) : [...picked, index];
      anchor = index;
    }
  }
  function samples(line: Line | undefined): string {
    if (!rehearsal || !line) return "";
    const place = rehearsal.target_columns.findIndex((column) => column.name === line.name);
    if (place < 0) return "";
    const source = rehearsal.source_columns.indexOf(rehearsal.target_columns[place]?.source ?? "");
    return rehearsal.rows.slice(0, SAMPLES).map((row) => (source >= 0 ? row.before[source] : row.after[place]) ?? "NULL").join(" · ");
  }

  async function focusLine(place: number, field: string) {
    const line = shown[place];
    if (!line) return;
    at = line.index;
    await tick();
    requestAnimationFrame(() => document.getElementById(`column-${line.index}-${field}`)?.focus());
  }
  function keys(event: KeyboardEvent) {
    const target = event.target as HTMLElement;
    const [, index, field] = target.id.split("-");
    if (event.altKey && (event.key === "ArrowUp" || event.key === "ArrowDown")) {
      event.preventDefault();
      step(event.key === "ArrowUp" ? -1 : 1);
    } else if (event.key === "ArrowUp" || event.key === "ArrowDown") {
      if (!index || !field || (target as HTMLInputElement).getAttribute("list")) return;
      event.preventDefault();
      const place = shown.findIndex((line) => line.index === Number(index));
      void focusLine(place + (event.key === "ArrowUp" ? -1 : 1), field);
    } else if (field === "pick" && event.key === "Delete" && !readonly) {
      event.preventDefault();
      drop(picked.length ? picked : [Number(index)]);
    } else if (field === "pick" && (event.ctrlKey || event.metaKey) && event.key === "a") {
      event.preventDefault();
      picked = shown.map((line) => line.index);
    }
  }
</script>

{#if items === null}
  <p class="text-base-content/75 px-3 py-2 text-sm">The job file cannot be read as it is; the sheet comes back when it can.</p>
{:else}
  <div class="flex min-h-0 flex-1 flex-col">
    <div class="border-base-300 flex flex-wrap items-center gap-x-2 gap-y-1 border-b px-2 py-1">
      <input class="input input-xs w-28" type="search" placeholder="filter" aria-label="filter columns" bind:value={filter} />
      {#if attention}
        <label class="flex items-center gap-1 text-xs"><input type="checkbox" class="checkbox checkbox-xs" bind:checked={minded} />{attention} to mind first</label>
      {/if}
      {#if !readonly}
        <button class="btn btn-xs" onclick={() => change([...(items ?? []), "'' as new_column text"])}>+ Add</button>
        <button class="btn btn-xs" onclick={undo} disabled={!undoable} title="Ctrl+Z">↶ Undo</button>
        {#if stars}<button class="btn btn-xs" onclick={spread} disabled={!check?.columns.length}>List every column</button>{/if}
        <details class="dropdown relative">
          <summary class="btn btn-xs">{picked.length ? `${picked.length} picked` : "All"} ▾</summary>
          <div class="bg-base-100 border-base-300 absolute left-0 z-30 mt-1 w-64 rounded border p-2 text-xs shadow-lg">
            <p class="text-base-content/75 mb-1">{picked.length ? `Of the ${picked.length} picked columns` : "Of all columns; pick some by their boxes"}</p>
            <div class="mb-2 flex flex-wrap gap-1">
              {#each Object.entries(RENAMINGS) as [label, form] (label)}<button class="btn btn-xs" onclick={() => rename(form)}>{label}</button>{/each}
            </div>
            <div class="mb-2 flex gap-1"><input class="input input-xs w-28" placeholder="prefix_" aria-label="prefix" bind:value={affix} /><button class="btn btn-xs" disabled={!affix} onclick={() => rename((name) => affix + name)}>put in front</button></div>
            <label class="mb-2 flex items-center gap-1">type <select class="select select-xs" aria-label="type of all" value="" onchange={(event) => { const type = event.currentTarget.value; event.currentTarget.value = ""; putAll((parts) => ({ ...parts, type })); }}><option value="">choose</option>{#each TYPES as type (type)}<option>{type}</option>{/each}</select></label>
            <label class="mb-2 flex items-center gap-1">mask <select class="select select-xs" aria-label="mask of all" value="" onchange={(event) => { const mask = MASKS[event.currentTarget.value]; event.currentTarget.value = ""; if (mask) putAll((parts, line) => ({ expression: mask(parts.expression), name: quoted(line.name), type: "text" })); }}><option value="">choose</option>{#each Object.keys(MASKS) as mask (mask)}<option>{mask}</option>{/each}</select></label>
            <div class="flex flex-wrap gap-1"><button class="btn btn-xs" disabled={!picked.length} onclick={() => drop(picked)}>Drop them</button><button class="btn btn-xs" disabled={!picked.length} onclick={() => (picked = [])}>Pick none</button></div>
          </div>
        </details>
      {/if}
      <span class="text-base-content/75 ml-auto text-xs">{count(lines.length)} {lines.length === 1 ? "item" : "items"}</span>
    </div>
    {#if unfilled.length || unused.length}
      <div class="border-base-300 bg-base-200/60 flex flex-wrap items-center gap-x-2 gap-y-1 border-b px-2 py-1 text-xs" data-testid="unmapped">
        {#if unfilled.length}
          <span><b class="font-semibold">Nothing fills</b> {unfilled.slice(0, 5).join(", ")}{unfilled.length > 5 ? ` and ${unfilled.length - 5} more` : ""} of the target.</span>
          {#each near.slice(0, 3) as pair (pair.wanted)}{#if !readonly}<button class="btn btn-xs font-mono" onclick={() => accept([pair])}>{pair.found} → {pair.wanted}?</button>{/if}{/each}
          {#if near.length > 1 && !readonly}<button class="btn btn-xs" onclick={() => accept(near)}>Accept all {near.length}</button>{/if}
        {/if}
        {#if unused.length}
          <span><b class="font-semibold">Not copied:</b> {unused.slice(0, 5).join(", ")}{unused.length > 5 ? ` and ${unused.length - 5} more` : ""}.</span>
          {#if !readonly}<button class="btn btn-xs" onclick={() => change([...(items ?? []), ...unused.map(quoted)])}>Add {unused.length === 1 ? "it" : "them"}</button>{/if}
        {/if}
      </div>
    {/if}
    <!-- svelte-ignore a11y_no_static_element_interactions -->
    <div class="min-h-0 flex-1 [&>div]:h-full [&>div]:max-h-none!" onkeydown={keys}>
      <Rows items={shown} columns={6} height={30} at={shown.findIndex((line) => line.index === at)} tall="24rem" label="Columns" testid="sheet" empty="No column matches.">
        {#snippet head()}
          <tr><th class="w-6"><span class="sr-only">picked</span></th><th>Column or expression</th><th>Target name</th><th>Type</th><th>In the target</th><th><span class="sr-only">actions</span></th></tr>
        {/snippet}
        {#snippet row(line)}
          {@const known = columns.get(line.name)}
          {@const fit = FITS[known?.fit ?? ""]}
          <tr
            class="h-[30px] {line.index === at ? 'bg-base-200' : ''} {over === line.index ? 'border-t-primary border-t-2' : ''}"
            onfocusin={() => (at = line.index)}
            ondragover={(event) => { if (dragged >= 0) { event.preventDefault(); over = line.index; } }}
            ondrop={(event) => { event.preventDefault(); if (dragged >= 0) move(picked.includes(dragged) ? [...picked].sort((a, b) => a - b) : [dragged], line.index); dragged = over = -1; }}
          >
            <td class="px-1"><input id="column-{line.index}-pick" type="checkbox" class="checkbox checkbox-xs" aria-label="pick {line.index + 1}" checked={picked.includes(line.index)} disabled={readonly} onclick={(event) => pick(line.index, event)} /></td>
            <td class="px-1 py-0.5" colspan={line.star ? 4 : 1}>
              <input id="column-{line.index}-expression" class="input input-xs w-full min-w-28 font-mono" aria-label="expression {line.index + 1}" {readonly} value={line.star ? line.item : line.parts.expression} title={line.star ? "all columns that no other line names" : line.parts.expression}
                onchange={(event) => (line.star ? change((items ?? []).map((one, place) => (place === line.index ? event.currentTarget.value : one))) : put(line.index, { expression: event.currentTarget.value }))} />
            </td>
            {#if !line.star}
              <td class="px-1 py-0.5"><input id="column-{line.index}-name" class="input input-xs w-full min-w-24 font-mono" aria-label="target name {line.index + 1}" {readonly} value={line.parts.name || line.parts.expression} onchange={(event) => put(line.index, { name: event.currentTarget.value })} /></td>
              <td class="px-1 py-0.5">
                <input id="column-{line.index}-type" class="input input-xs w-full min-w-20 font-mono" aria-label="type {line.index + 1}" list={line.index === at && known?.choices.length ? "choices" : "types"} {readonly} placeholder={known?.type ?? ""} value={line.parts.type} onchange={(event) => put(line.index, { type: event.currentTarget.value })} />
              </td>
              <td class="max-w-36 truncate px-1 text-xs" title="{known?.fit ?? ''} {known?.native ?? ''}: {known?.evidence ?? ''}">
                {#if line.findings.length}<span class={line.weight > 1 ? "text-error" : "text-warning"}>{line.weight > 1 ? "✗" : "!"} {line.findings[0]?.code}</span>
                {:else if known}<span class={fit?.[1]} aria-label={known.fit}>{fit?.[0]}</span> <span class="font-mono">{known.native}</span>{/if}
              </td>
            {/if}
            <td class="w-6 px-1 whitespace-nowrap">
              {#if !readonly}
                <button class="cursor-grab px-0.5" draggable="true" aria-label="move {line.index + 1}, by drag or Alt with arrows" ondragstart={() => (dragged = line.index)} ondragend={() => (dragged = over = -1)} title="drag, or Alt+↑ ↓">⠿</button>
                <button class="cursor-pointer px-0.5" aria-label="drop {line.index + 1}" disabled={lines.length === 1} onclick={() => drop([line.index])}>✕</button>
              {/if}
            </td>
          </tr>
        {/snippet}
      </Rows>
    </div>
    {#if current}
      <div class="border-base-300 max-h-24 overflow-auto border-t px-2 py-1 text-xs" data-testid="column-detail">
        {#if current.findings.length}<Findings findings={current.findings} {apply} />
        {:else}
          <span class="font-mono font-semibold">{current.name || current.item}</span>
          {#if columns.get(current.name)}<span class="text-base-content/80"> {columns.get(current.name)?.fit}: {columns.get(current.name)?.evidence}</span>{/if}
          {#if samples(current)}<span class="font-mono" title={samples(current)}> {samples(current)}</span>{/if}
        {/if}
      </div>
    {/if}
    <datalist id="types">{#each TYPES as type (type)}<option value={type}></option>{/each}</datalist>
    <datalist id="choices">
      {#each columns.get(current?.name ?? "")?.choices ?? [] as choice (choice.type)}<option value={choice.type} label="{choice.type}: {choice.fit}, {choice.native} in the target{choice.change ? `; ${choice.change}` : ''}"></option>{/each}
    </datalist>
  </div>
{/if}
