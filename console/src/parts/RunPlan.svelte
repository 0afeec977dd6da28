<script lang="ts">
  import { get, problemOf } from "../lib/api";
  import type { Check, ProblemBody } from "../lib/types";
  import Problem from "./Problem.svelte";

  interface Plan {
    strategy: NonNullable<Check["strategy"]>;
    ddl: string[];
    columns: { source: string; name: string; native: string; fit: string }[];
  }

  let { run, leg = 1 }: { run: number; leg?: number } = $props();
  let plan = $state<Plan | null>(null);
  let problem = $state<ProblemBody | null>(null);

  async function load() {
    if (plan) return;
    try {
      plan = await get<Plan>(`runs/${run}/plan?leg=${leg}`);
    } catch (error) {
      problem = problemOf(error);
    }
  }
</script>

<details class="mt-1.5 text-sm" ontoggle={load} data-testid="plan">
  <summary class="cursor-pointer">How it was planned</summary>
  {#if problem}<Problem {problem} />{/if}
  {#if plan}
    <p class="mt-1"><b class="font-semibold">Strategy {plan.strategy.name}:</b> {plan.strategy.summary}.</p>
    {#each Object.entries(plan.strategy.why_not) as [name, why] (name)}
      <p class="text-base-content/75">Not {name}: {why}.</p>
    {/each}
    {#if plan.ddl.length}<pre class="bg-base-200 mt-1 max-h-56 overflow-auto rounded-sm p-2 text-xs">{plan.ddl.join(";\n")}</pre>{/if}
    <p class="mt-1">
      {#each plan.columns as column, at (column.name)}{at ? ", " : ""}{column.source === column.name ? "" : `${column.source} → `}{column.name} <span class="text-base-content/75">{column.native}</span>{/each}
    </p>
    <p class="mt-1"><a class="plain" href="/api/v1/runs/{run}/plan?leg={leg}">The whole plan as JSON</a></p>
  {/if}
</details>
