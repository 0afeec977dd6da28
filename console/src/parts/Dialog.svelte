<script lang="ts">
  import type { Snippet } from "svelte";

  /** A window over the page, closed by Escape. */
  let { title, close, children, foot }: { title: string; close: () => void; children: Snippet; foot: Snippet } = $props();
  let dialog: HTMLDialogElement;
  $effect(() => {
    const before = document.activeElement as HTMLElement | null;
    dialog.showModal();
    return () => {
      dialog.close();
      before?.focus?.();
    };
  });
</script>

<dialog bind:this={dialog} aria-label={title} class="bg-base-100 text-base-content border-base-300 m-auto w-full max-w-3xl rounded border p-0 shadow-xl backdrop:bg-black/40" oncancel={close}>
  <h2 class="border-base-300 border-b px-4 py-2 font-semibold">{title}</h2>
  <div class="max-h-[60vh] overflow-auto py-2">{@render children()}</div>
  <div class="border-base-300 flex flex-wrap justify-end gap-2 border-t px-4 py-2">{@render foot()}</div>
</dialog>
