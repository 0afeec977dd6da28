<script lang="ts">
  let { name }: { name: string } = $props();
  const LOOKS: Record<string, [string, string]> = {
    queued: ["◷", "text-base-content/75"],
    waiting: ["○", "text-base-content/75"],
    running: ["▸", "text-info"],
    succeeded: ["✓", "text-success"],
    done: ["✓", "text-success"],
    failed: ["✗", "text-error"],
    stopped: ["■", "text-warning"],
    snapshot: ["⧉", "text-info"],
    following: ["⇢", "text-success"],
    paused: ["‖", "text-warning"],
    "cut off": ["–", "text-base-content/75"],
    loaded: ["✓", "text-success"],
    found: ["○", "text-base-content/75"],
    unmatched: ["?", "text-warning"],
    disputed: ["≠", "text-warning"],
    committed: ["⚑", "text-warning"],
    unknown: ["?", "text-warning"],
    late: ["◷", "text-warning"],
    "not run": ["◇", "text-warning"],
    "not started": ["○", "text-base-content/75"],
    "never run": ["○", "text-base-content/75"],
  };
  let look = $derived(LOOKS[name] ?? ["·", ""]);
</script>

<span class="inline-flex items-center gap-1.5 whitespace-nowrap {look[1]}" data-state={name}>
  <span aria-hidden="true" class={name === "running" ? "animate-pulse" : ""}>{look[0]}</span>{name}
</span>
