<script lang="ts">
  import { onMount } from "svelte";
  import { get } from "../lib/api";
  import type { Connection, Page } from "../lib/types";

  let {
    id,
    value,
    disabled,
    choose,
    empty = false,
  }: { id: string; value: string; disabled: boolean; choose: (name: string) => void; empty?: boolean } = $props();
  let connections = $state<Connection[]>([]);

  onMount(async () => {
    connections = (await get<Page<Connection>>("connections")).items;
  });
</script>

<select {id} class="select select-sm w-full " {disabled} {value} onchange={(event) => choose(event.currentTarget.value)}>
  {#if empty && !value}<option value="">choose one</option>{/if}
  {#if value && !connections.some((one) => one.name === value)}<option>{value}</option>{/if}
  {#each connections as one (one.name)}<option value={one.name}>{one.name} ({one.kind})</option>{/each}
</select>
