<script lang="ts">
  import { read, valueAt, written, type Data, type Path } from "../lib/jobfile";
  import type { Key } from "../lib/schema";
  import KeyForm from "./KeyForm.svelte";

  /**
   * Keys of a section of a job file, each with its help. `data` is the whole file, `path` leads to the section; `put` sets a value, or takes
   * the key out for undefined. `folded`: keys that are not set are folded away.
   */
  let {
    keys,
    data,
    path,
    put,
    readonly = false,
    problems = {},
    more,
  }: {
    keys: Key[];
    data: Data | null;
    path: Path;
    put: (path: Path, value: unknown) => void;
    readonly?: boolean;
    /** What is wrong with a key, by its place: into.keys. */
    problems?: Record<string, string>;
    /** Below a key, such as the next times of a schedule. */
    more?: import("svelte").Snippet<[Path, unknown]>;
  } = $props();
  let unread = $state<Record<string, string>>({});

  const idOf = (key: string) => [...path, key].join("-");
  const valueOf = (key: string) => valueAt(data, [...path, key]);
  const usualOf = (one: Key) => (one.usual === undefined || one.usual === null || one.usual === "" || (Array.isArray(one.usual) && !one.usual.length) ? "" : written(one.usual));
  const listed = (text: string) => text.split(",").map((part) => part.trim()).filter(Boolean);

  function putRead(key: string, text: string) {
    const { value, problem } = read(text);
    unread[key] = problem ?? "";
    if (!problem) put([...path, key], value);
  }
</script>

<div class="flex flex-col gap-2.5">
  {#each keys as one (one.key)}
    {@const id = idOf(one.key)}
    {@const value = valueOf(one.key)}
    {@const problem = problems[[...path, one.key].join(".")] ?? unread[one.key]}
    <div class="min-w-0">
      {#if one.kind === "section"}
        <details class="border-base-300 border-l-2 pl-2" open={value !== undefined}>
          <summary class="cursor-pointer">{one.key.replaceAll("_", " ")} <span class="text-base-content/75 text-xs">{value === undefined ? "" : written(value)}</span></summary>
          {#if one.about}<p class="text-base-content/75 mb-1.5 text-xs">{one.about}</p>{/if}
          <KeyForm keys={one.keys} {data} path={[...path, one.key]} {put} {readonly} {problems} />
        </details>
      {:else if one.kind === "sections"}
        <div class="font-medium">{one.key.replaceAll("_", " ")}</div>
        {#if one.about}<p class="text-base-content/75 mb-1 text-xs">{one.about}</p>{/if}
        {#each Array.isArray(value) ? value : value === undefined ? [] : [value] as item, at (at)}
          {@const inside = Array.isArray(value) ? [...path, one.key, at] : [...path, one.key]}
          <div class="border-base-300 mb-2 border-l-2 pl-2">
            <KeyForm keys={one.keys} {data} path={inside} {put} {readonly} {problems} />
            {@render more?.(inside, item)}
            {#if !readonly}<button class="btn btn-xs btn-ghost mt-1" aria-label="Remove {one.key} {at + 1}" onclick={() => put(inside, undefined)}>✕ Remove</button>{/if}
          </div>
        {/each}
        {#if !readonly}
          <button class="btn btn-xs" onclick={() => {
            const first = Object.fromEntries(one.keys.slice(0, 1).map((key) => [key.key, key.example || "…"]));
            const held = Array.isArray(value) ? value : value === undefined ? [] : [value];
            put([...path, one.key], [...held, first]);
          }}>+ Add {one.key.replaceAll("_", " ")}</button>
        {/if}
      {:else}
        <div class="flex flex-wrap items-baseline gap-x-2">
          <label for={id} class={value === undefined ? "" : "font-semibold"}>{one.key.replaceAll("_", " ")}</label>
          {#if one.kind === "yesno"}
            <input {id} type="checkbox" class="checkbox checkbox-xs translate-y-0.5" disabled={readonly} checked={Boolean(value ?? one.usual)} onchange={(event) => put([...path, one.key], event.currentTarget.checked === Boolean(one.usual) ? undefined : event.currentTarget.checked)} />
          {/if}
        </div>
        {#if one.kind === "choice"}
          <select {id} class="select select-sm w-full max-w-64" disabled={readonly} value={value === undefined ? "" : String(value)} onchange={(event) => put([...path, one.key], event.currentTarget.value || undefined)}>
            <option value="">{usualOf(one) || "left out"}</option>
            {#each one.choices.filter((choice) => choice !== usualOf(one) || value === choice) as choice (choice)}<option>{choice}</option>{/each}
          </select>
        {:else if one.kind === "number"}
          <input {id} type="number" class="input input-sm w-full max-w-64" min={one.least} max={one.most} {readonly} placeholder={usualOf(one)} value={value === undefined ? "" : String(value)} onchange={(event) => put([...path, one.key], event.currentTarget.value === "" ? undefined : Number(event.currentTarget.value))} />
        {:else if one.kind === "long"}
          <textarea {id} rows="2" class="textarea textarea-sm w-full" {readonly} value={String(value ?? "")} onchange={(event) => put([...path, one.key], event.currentTarget.value)}></textarea>
        {:else if one.kind === "list"}
          <input {id} class="input input-sm w-full font-mono" {readonly} placeholder={usualOf(one) || one.example} value={Array.isArray(value) ? value.join(", ") : String(value ?? "")} onchange={(event) => put([...path, one.key], listed(event.currentTarget.value))} />
        {:else if one.kind === "text"}
          <input {id} class="input input-sm w-full font-mono" {readonly} placeholder={usualOf(one) || one.example} value={typeof value === "object" ? written(value) : String(value ?? "")} onchange={(event) => put([...path, one.key], event.currentTarget.value)} />
        {:else if one.kind === "yaml"}
          <input {id} class="input input-sm w-full font-mono" {readonly} list={one.choices.length ? `${id}-choices` : undefined} placeholder={usualOf(one) || one.example} value={written(value)} onchange={(event) => putRead(one.key, event.currentTarget.value)} />
          {#if one.choices.length}<datalist id="{id}-choices">{#each one.choices as choice (choice)}<option value={choice}></option>{/each}</datalist>{/if}
        {/if}
        {#if problem}<p class="text-error text-xs" role="status">✗ {problem}</p>{/if}
        {#if one.about}<p class="text-base-content/75 text-xs">{one.about}</p>{/if}
      {/if}
    </div>
  {/each}
</div>
