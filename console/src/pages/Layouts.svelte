<script lang="ts">
  import { exchange } from "../lib/api";
  import { moment } from "../lib/format";
  import { Doing, load } from "../lib/load.svelte";
  import { may } from "../lib/session.svelte";
  import type { Page, SavedLayout } from "../lib/types";
  import Head from "../parts/Head.svelte";
  import Loaded from "../parts/Loaded.svelte";
  import Problem from "../parts/Problem.svelte";

  const layouts = load<Page<SavedLayout>>(() => "layouts?page_size=200");
  const doing = new Doing();
  function remove(name: string) {
    if (!confirm(`Remove layout ${name}?`)) return;
    void doing.do(name, () => exchange("DELETE", `layouts/${encodeURIComponent(name)}`)).then(layouts.again);
  }
</script>

<Head title="Layouts" under="how the files of one kind are cut, saved under a name" />
{#if doing.problem}<div class="mb-3"><Problem problem={doing.problem} /></div>{/if}
<Loaded of={layouts}>
  {#snippet children(page)}
    {#if page.items.length}
      <div class="panel overflow-x-auto">
        <table class="table-sm table">
          <thead><tr><th>Name</th><th>Format</th><th class="num">Version</th><th>Saved</th><th>File</th><th><span class="sr-only">actions</span></th></tr></thead>
          <tbody>
            {#each page.items as one (one.name)}
              <tr>
                <td class="min-w-36 font-semibold [overflow-wrap:anywhere]">{one.name}</td>
                <td>{one.format}</td>
                <td class="num">{one.version}</td>
                <td class="whitespace-nowrap">{moment(one.saved_at)}</td>
                <td class="w-full">
                  {one.about}
                  <details><summary class="cursor-pointer">show</summary><pre class="mt-1 overflow-x-auto text-xs">{one.file}</pre></details>
                </td>
                <td>{#if may("editor")}<button class="btn btn-xs btn-ghost" aria-label="Remove {one.name}" disabled={!!doing.what} onclick={() => remove(one.name)}>Remove</button>{/if}</td>
              </tr>
            {/each}
          </tbody>
        </table>
      </div>
    {:else}
      <p class="panel px-4 py-6">No layouts yet: look at a file of a <a class="plain" href="/connections">connection</a>, edit its layout until the rows are right, and save it.</p>
    {/if}
  {/snippet}
</Loaded>
