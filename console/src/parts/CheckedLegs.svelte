<script lang="ts">
  import { count } from "../lib/format";
  import type { CheckedLeg } from "../lib/types";

  /** The legs of a checked job with many objects, the worst first. */
  let { legs }: { legs: CheckedLeg[] } = $props();
  const MOST = 200;
  let search = $state("");
  let found = $derived(legs.filter((leg) => `${leg.object} ${leg.target}`.toLowerCase().includes(search.toLowerCase())));
  function minded(leg: CheckedLeg) {
    return leg.findings.filter((one) => one.severity !== "note");
  }
</script>

<div class="border-base-300 border-t">
  <div class="flex items-center px-3.5 py-1.5 text-sm">
    {count(legs.length)} legs, the worst first
    {#if legs.length > 8}<input class="input input-xs ml-auto w-44" placeholder="filter" aria-label="Filter legs" bind:value={search} />{/if}
  </div>
  <div class="max-h-96 overflow-auto">
    <table class="table-sm table">
      <thead><tr><th>Object</th><th>Into</th><th>Check</th><th>Fit</th><th class="num">Columns</th></tr></thead>
      <tbody>
        {#each found.slice(0, MOST) as leg (leg.number)}
          <tr>
            <td class="min-w-24 [overflow-wrap:anywhere]">{leg.object}</td>
            <td class="min-w-24 [overflow-wrap:anywhere]">{leg.target}{#if !leg.target_exists}<span class="text-base-content/75"> new</span>{/if}</td>
            <td class="whitespace-nowrap {leg.passed ? (minded(leg).length ? 'text-warning' : 'text-success') : 'text-error'}">{leg.passed ? (minded(leg).length ? "! warning" : "✓ passed") : "✗ error"}</td>
            <td>{leg.fit}</td>
            <td class="num">{leg.columns || "—"}</td>
          </tr>
          {#each minded(leg) as finding, at (at)}
            <tr><td></td><td colspan="4" class="text-base-content/75 pt-0 text-sm">{finding.message}{#if finding.fix}<br />fix: {finding.fix}{/if}</td></tr>
          {/each}
        {/each}
      </tbody>
    </table>
  </div>
</div>
