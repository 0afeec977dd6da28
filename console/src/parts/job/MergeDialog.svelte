<script lang="ts">
  import { joined, merged } from "../../lib/changes";
  import DiffView from "../DiffView.svelte";
  import Dialog from "../Dialog.svelte";

  /** Changes of two persons to one job: what the other has saved, and both joined. */
  let { mine, start, others, who, take, close }: { mine: string; start: string; others: string; who: string; take: (text: string) => void; close: () => void } = $props();
  let pieces = $derived(merged(mine, start, others));
  let conflicts = $derived(pieces.flatMap((piece) => ("mine" in piece ? [piece] : [])));
  let chosen = $state<("mine" | "others" | "both")[]>([]);
  const SIDES = { mine: "yours", others: "theirs", both: "both" } as const;
  let result = $derived(joined(pieces, chosen));
</script>

<Dialog title="{who} has saved this job since you opened it" {close}>
  <p class="px-4 pb-1 text-sm font-semibold">What they have changed</p>
  <DiffView before={start} after={others} label="their changes" />
  {#each conflicts as conflict, place (place)}
    <fieldset class="border-base-300 mx-4 mt-3 rounded border p-2">
      <legend class="px-1 text-sm">Both changed these lines</legend>
      <div class="grid gap-2 text-xs sm:grid-cols-2">
        <div><b>yours</b><pre class="bg-base-200 overflow-x-auto p-1">{conflict.mine.join("\n")}</pre></div>
        <div><b>theirs</b><pre class="bg-base-200 overflow-x-auto p-1">{conflict.others.join("\n")}</pre></div>
      </div>
      <div class="mt-1 flex gap-3">
        {#each Object.entries(SIDES) as [side, name] (side)}
          <label class="flex items-center gap-1 text-sm"><input type="radio" class="radio radio-xs" name="conflict-{place}" value={side} checked={(chosen[place] ?? "mine") === side} onchange={() => (chosen[place] = side as keyof typeof SIDES)} />{name}</label>
        {/each}
      </div>
    </fieldset>
  {/each}
  <p class="px-4 pt-3 pb-1 text-sm font-semibold">What you would have on top of theirs</p>
  <DiffView before={others} after={result} label="your changes on top of theirs" />
  {#snippet foot()}
    <button class="btn btn-sm" onclick={close}>Not now</button>
    <button class="btn btn-sm" onclick={() => take(others)}>Take theirs, give mine up</button>
    <button class="btn btn-sm btn-primary" onclick={() => take(result)}>Put both into the editor</button>
  {/snippet}
</Dialog>
