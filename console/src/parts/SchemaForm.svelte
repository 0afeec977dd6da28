<script lang="ts">
  import { fieldsOf, firstFields, type FormField, type Schema } from "../lib/schema";

  let {
    schema,
    values,
    sealed = [],
    skip = [],
    prefix = "",
    folded = false,
    change,
  }: {
    schema: Schema;
    values: Record<string, unknown>;
    sealed?: string[];
    skip?: string[];
    prefix?: string;
    /** Whether fields that can wait are folded away. */
    folded?: boolean;
    change: (key: string, value: unknown) => void;
  } = $props();

  let fields = $derived(fieldsOf(schema).filter((one) => one.kind !== "other" && !skip.includes(one.key)));
  let first = $derived(folded ? firstFields(fields) : fields.length);
  let later = $derived(fields.slice(first));

  function text(value: unknown): string {
    if (value === undefined || value === null) return "";
    if (Array.isArray(value)) return value.map((one) => (one === "" ? '""' : one)).join(", ");
    if (typeof value === "object") {
      const [place, name] = Object.entries(value)[0] ?? ["", ""];
      return `${place}:${name}`;
    }
    return String(value).replaceAll("\t", "\\t");
  }
  function parsed(kind: string, given: string): unknown {
    if (given === "") return undefined;
    if (kind === "number") return Number(given);
    if (kind === "list") return given.split(",").map((one) => one.trim().replace(/^""$/, ""));
    const reference = /^(from_env|from_file):(.+)$/.exec(given);
    if (reference?.[1] && (kind === "secret" || kind === "multiline")) return { [reference[1]]: reference[2] };
    return given.replaceAll("\\t", "\t");
  }
</script>

{@render lines(fields.slice(0, first))}
{#if later.length}
  <details class="mt-3" open={later.some((one) => values[one.key] !== undefined)}>
    <summary class="mb-2 cursor-pointer text-sm">More settings ({later.length})</summary>
    {@render lines(later)}
  </details>
{/if}

{#snippet lines(shown: FormField[])}
<div class="grid grid-cols-[minmax(6rem,auto)_minmax(0,1fr)] items-start gap-x-3 gap-y-2">
  {#each shown as field (field.key)}
    {@const id = `${prefix}${field.key}`}
    <label for={id} class="pt-1 {field.required ? 'font-semibold' : ''}">{field.label}</label>
    <div>
      {#if field.kind === "choice"}
        <select
          {id}
          class="select select-sm w-full max-w-56"
          value={text(values[field.key] ?? (field.optional ? "" : field.usual))}
          onchange={(event) => change(field.key, event.currentTarget.value || undefined)}
        >
          {#if field.optional}<option value="">left out</option>{/if}
          {#each field.choices as choice (choice)}<option value={choice}>{choice === " " ? "space" : choice}</option>{/each}
        </select>
      {:else if field.kind === "yesno" && field.optional}
        <select
          {id}
          class="select select-sm w-full max-w-56"
          value={text(values[field.key])}
          onchange={(event) =>
            change(field.key, event.currentTarget.value === "" ? undefined : event.currentTarget.value === "true")}
        >
          <option value="">left out</option><option value="true">yes</option><option value="false">no</option>
        </select>
      {:else if field.kind === "yesno"}
        <input
          {id}
          type="checkbox"
          class="checkbox checkbox-sm mt-1"
          checked={Boolean(values[field.key] ?? field.usual)}
          onchange={(event) => change(field.key, event.currentTarget.checked)}
        />
      {:else if field.kind === "multiline"}
        <textarea
          {id}
          rows="2"
          class="textarea textarea-sm w-full font-mono text-xs"
          placeholder={sealed.includes(field.key) ? "sealed; leave empty to keep it" : ""}
          value={text(values[field.key])}
          onchange={(event) => change(field.key, parsed(field.kind, event.currentTarget.value))}
        ></textarea>
      {:else}
        <input
          {id}
          type={field.kind === "secret" ? "password" : field.kind === "number" ? "number" : "text"}
          autocomplete="off"
          class="input input-sm w-full max-w-96"
          placeholder={sealed.includes(field.key)
            ? "sealed; leave empty to keep it"
            : field.usual !== undefined && field.usual !== null && field.usual !== ""
              ? text(field.usual)
              : field.example}
          value={text(values[field.key])}
          oninput={(event) => change(field.key, parsed(field.kind, event.currentTarget.value))}
        />
      {/if}
      {#if field.about}<p class="text-base-content/75 mt-0.5 text-xs">{field.about}</p>{/if}
    </div>
  {/each}
</div>
{/snippet}
