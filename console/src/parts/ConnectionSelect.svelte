<script lang="ts">
  import { onMount } from "svelte";
  import { get } from "../lib/api";
  import type { Connection, Page } from "../lib/types";

  let { id, value, disabled, choose }: { id: string; value: string; disabled: boolean; choose: (name: string) => void } = $props();
  let connections = $state<Connection[]>([]);

  onMount(async () => {
    connections = (await get<Page<Connection>>("connections")).items;
  });
</script>

<select {id} class="select select-sm w-full max-w-72" {disabled} {value} onchange={(event) => choose(event.currentTarget.value)}>
  {#if value && !connections.some((one) => one.name === value)}<option>{value}</option>{/if}
  {#each connections as one (one.name)}<option value={one.name}>{one.name} ({one.kind})</option>{/each}
</select>
