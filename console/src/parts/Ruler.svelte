<script lang="ts">
  /** Borders of fixed-width fields above the records: set, moved and removed by mouse or keyboard. */
  import { tick } from "svelte";
  import type { FixedField } from "../lib/types";

  let {
    fields,
    width,
    lines,
    bad = new Map(),
    change,
  }: {
    fields: FixedField[];
    width: number;
    lines: string[];
    bad?: Map<number, string>;
    change: (fields: FixedField[]) => void;
  } = $props();

  let scale: HTMLElement;
  let cell: HTMLElement;
  let dragged = $state<number | null>(null);
  let cursor = $state(0);
  let ends = $derived.by(() => {
    let end = 0;
    return fields.map((one) => {
      const begin = one.start ? one.start - 1 : end;
      return (end = begin + one.width);
    });
  });
  let borders = $derived(ends.slice(0, -1));

  /** New fields from borders; a field keeps its name as long as it keeps its place among them. */
  function apply(given: number[], names: string[]) {
    const all = [...given, Math.max(width, given.at(-1) ?? 0)];
    change(
      all.map((end, index) => ({
        name: names[index] || `field_${index + 1}`,
        width: end - (all[index - 1] ?? 0),
        ...(fields[index]?.trim && fields[index].trim !== "both" ? { trim: fields[index].trim } : {}),
      })),
    );
  }
  const nameOf = (index: number) => fields[index]?.name ?? "";
  const names = () => fields.map((one) => one.name);
  function move(index: number, to: number) {
    const low = (borders[index - 1] ?? 0) + 1;
    const high = (borders[index + 1] ?? width) - 1;
    const place = Math.min(high, Math.max(low, to));
    if (place !== borders[index]) apply(borders.map((one, at) => (at === index ? place : one)), names());
  }
  function remove(index: number) {
    apply(borders.filter((_, at) => at !== index), names().filter((_, at) => at !== index + 1));
  }
  function add(place: number) {
    if (place <= 0 || place >= width || borders.includes(place)) return;
    const index = borders.filter((one) => one < place).length;
    const given = names();
    given.splice(index + 1, 0, `field_${given.length + 1}`);
    apply([...borders, place].sort((a, b) => a - b), given);
  }
  function placeOf(event: PointerEvent): number {
    return Math.round((event.clientX - scale.getBoundingClientRect().left) / (cell.getBoundingClientRect().width / 10));
  }
  function drag(event: PointerEvent, index: number) {
    event.preventDefault();
    dragged = index;
    (event.currentTarget as HTMLElement).setPointerCapture(event.pointerId);
    (event.currentTarget as HTMLElement).focus();
  }
  async function key(event: KeyboardEvent, index: number) {
    const step = event.shiftKey ? 10 : 1;
    if (event.key === "ArrowLeft") move(index, (borders[index] ?? 0) - step);
    else if (event.key === "ArrowRight") move(index, (borders[index] ?? 0) + step);
    else if (event.key === "Delete" || event.key === "Backspace") {
      remove(index);
      await tick();
      scale.focus();
    } else return;
    event.preventDefault();
  }
  function scaleKey(event: KeyboardEvent) {
    if (event.target !== scale) return;
    const step = event.shiftKey ? 10 : 1;
    if (event.key === "ArrowLeft") cursor = Math.max(0, cursor - step);
    else if (event.key === "ArrowRight") cursor = Math.min(width, cursor + step);
    else if (event.key === "Enter" || event.key === " ") add(cursor);
    else return;
    event.preventDefault();
  }
  let ticks = $derived(Array.from({ length: Math.floor(width / 10) + 1 }, (_, index) => index * 10));
</script>

<div class="overflow-x-auto font-mono text-xs leading-5">
  <span bind:this={cell} class="invisible absolute" aria-hidden="true">0000000000</span>
  <div class="relative ml-8 pb-1" style="width: {width + 1}ch">
    <!-- svelte-ignore a11y_no_noninteractive_tabindex, a11y_no_noninteractive_element_interactions -->
    <div
      bind:this={scale}
      class="border-base-300 relative h-6 cursor-crosshair border-b select-none"
      role="group"
      aria-label="Ruler: arrow keys move the mark, Enter sets a border there"
      tabindex="0"
      onkeydown={scaleKey}
      onpointerdown={(event) => {
        if (event.target === event.currentTarget || (event.target as HTMLElement).dataset.tick) {
          cursor = placeOf(event);
          add(cursor);
        }
      }}
    >
      {#each ticks as at (at)}
        <span data-tick={at} class="border-base-content/40 absolute bottom-0 h-2 border-l" style="left: {at}ch"></span>
        <span data-tick={at} class="absolute top-0" style="left: {at}ch">
          <span data-tick={at} class="text-base-content/75 absolute left-0.5 text-[10px] leading-3">{at}</span>
        </span>
      {/each}
      <span class="bg-base-content absolute bottom-0 h-1.5 w-0.5" style="left: {cursor}ch" aria-hidden="true"></span>
      {#each borders as border, index (index)}
        <button
          type="button"
          role="slider"
          aria-label="Border between {nameOf(index)} and {nameOf(index + 1)}"
          aria-valuenow={border}
          aria-valuemin={(borders[index - 1] ?? 0) + 1}
          aria-valuemax={(borders[index + 1] ?? width) - 1}
          title="{nameOf(index)} | {nameOf(index + 1)}: drag, or arrow keys; Delete removes it"
          class="absolute bottom-[-3px] z-10 h-4 w-2.5 -translate-x-1/2 cursor-ew-resize rounded-sm {dragged === index
            ? 'bg-base-content'
            : 'bg-primary'}"
          style="left: {border}ch"
          onpointerdown={(event) => drag(event, index)}
          onpointermove={(event) => dragged === index && move(index, placeOf(event))}
          onpointerup={() => (dragged = null)}
          onpointercancel={() => (dragged = null)}
          onkeydown={(event) => key(event, index)}
        ></button>
      {/each}
    </div>
    <div class="relative">
      {#each lines as line, index (index)}
        <div class="relative h-5 whitespace-pre {bad.has(index) ? 'bg-error/15' : ''}" title={bad.get(index)}>
          <span class="text-base-content/75 absolute -left-8 w-6 text-right">{bad.has(index) ? "✗" : index + 1}</span>{line}
        </div>
      {/each}
      {#each borders as border, index (index)}
        <span
          class="pointer-events-none absolute top-0 bottom-0 border-l {dragged === index ? 'border-base-content' : 'border-primary/70'}"
          style="left: {border}ch"
        ></span>
      {/each}
    </div>
  </div>
</div>
