<script lang="ts">
  /** What a leg ran in databases, the longest first. */
  import { count } from "../lib/format";
  import type { Leg } from "../lib/types";

  let { statements }: { statements: Leg["statements"] } = $props();
</script>

<details class="border-base-300 border-t px-3.5 py-2" data-testid="statements">
  <summary class="cursor-pointer text-sm">Statements in databases, the longest first</summary>
  <div class="mt-1 max-h-80 overflow-auto">
    <table class="table-xs table">
      <thead><tr><th class="num">Seconds</th><th class="num">Times</th><th class="num">Rows</th><th>Statement, with … for each value</th></tr></thead>
      <tbody>
        {#each statements as one, place (place)}
          <tr>
            <td class="num">{one.seconds.toFixed(3)}</td>
            <td class="num">{count(one.count)}</td>
            <td class="num">{count(one.rows)}</td>
            <td class="min-w-64"><code class="text-xs [overflow-wrap:anywhere]">{one.text}</code></td>
          </tr>
        {/each}
      </tbody>
    </table>
  </div>
</details>
