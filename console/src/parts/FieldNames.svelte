<script lang="ts">
  import type { FixedField } from "../lib/types";
  let { fields, change }: { fields: FixedField[]; change: (fields: FixedField[]) => void } = $props();
  const put = (index: number, part: Partial<FixedField>) =>
    change(fields.map((one, at) => (at === index ? { ...one, ...part } : one)));
</script>

<div class="flex flex-wrap gap-2" role="group" aria-label="Fields">
  {#each fields as field, index (index)}
    <div class="border-base-300 rounded-box flex items-center gap-1 border px-1.5 py-1">
      <input
        class="input input-xs w-28"
        aria-label="Name of field {index + 1}"
        value={field.name}
        onchange={(event) => put(index, { name: event.currentTarget.value })}
      />
      <input
        class="input input-xs w-14"
        type="number"
        min="1"
        aria-label="Width of {field.name}"
        value={field.width}
        onchange={(event) => put(index, { width: Math.max(1, Number(event.currentTarget.value)) })}
      />
      <select
        class="select select-xs w-28"
        aria-label="Trim {field.name}"
        value={field.trim ?? "both"}
        onchange={(event) => put(index, { trim: event.currentTarget.value })}
      >
        {#each ["both", "left", "right", "none"] as trim (trim)}<option value={trim}>trim {trim}</option>{/each}
      </select>
    </div>
  {/each}
</div>
