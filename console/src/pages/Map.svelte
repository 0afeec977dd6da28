<script lang="ts">
  import { drawn, jobId, only, reached, short } from "../lib/drawing";
  import { count, moment } from "../lib/format";
  import { load } from "../lib/load.svelte";
  import { jobPage, lookPage, mapPage, query, runPage, streamPage } from "../lib/places";
  import { ask, route } from "../lib/router.svelte";
  import type { ColumnSteps, JobMap } from "../lib/types";
  import Head from "../parts/Head.svelte";
  import Loaded from "../parts/Loaded.svelte";
  import State from "../parts/State.svelte";

  /** Which job reads and writes what: objects as boxes, jobs as what lies between them. */
  const MOST = 240;
  const map = load<JobMap>(() => "map", { every: 10_000 });
  let object = $derived(route.asked.object ?? "");
  let column = $derived(route.asked.column ?? "");
  let search = $derived(route.asked.search ?? "");
  /** A job or object whose ways are lit. */
  let chosen = $derived(route.asked.chosen ?? (object || ""));
  const connectionOf = (id: string) => id.slice(0, id.indexOf(":"));
  const nameOf = (id: string) => id.slice(id.indexOf(":") + 1);
  const steps = load<ColumnSteps>(() => (object && column ? `map/column${query({ connection: connectionOf(object), object: nameOf(object), column })}` : null));

  const BAD = ["failed", "stopped", "paused"];
  const badOf = (whole: JobMap) => whole.jobs.filter((job) => BAD.includes(job.state));
  let shown = $derived.by(() => {
    if (!map.data) return null;
    const wanted = search.trim().toLowerCase();
    const starts = object
      ? [object]
      : wanted
        ? [...map.data.objects.map((one) => one.id), ...map.data.jobs.map((job) => jobId(job.name))].filter((id) => id.toLowerCase().includes(wanted))
        : null;
    return starts ? only(map.data, new Set([...reached(map.data, starts, true), ...reached(map.data, starts, false)])) : map.data;
  });
  let size = $derived(shown ? shown.objects.length + shown.jobs.length : 0);
  let picture = $derived(shown && size <= MOST ? drawn(shown) : null);
  let jobs = $derived(new Map((shown?.jobs ?? []).map((job) => [jobId(job.name), job])));
  let objects = $derived(new Map((shown?.objects ?? []).map((one) => [one.id, one])));
  let lit = $derived(shown && chosen ? new Set([...reached(shown, [chosen], true), ...reached(shown, [chosen], false)]) : null);
  /** What follows from what went wrong: it may be as it was before. */
  let stale = $derived(shown ? reached(shown, badOf(shown).map((job) => jobId(job.name)), true) : new Set<string>());
  let followingOf = $derived.by(() => (job: string) => (map.data ? [...reached(map.data, [jobId(job)], true)].filter((id) => id !== jobId(job)) : []));
  /** A smooth way through the points, level at both ends. */
  function pathOf(points: { x: number; y: number }[]): string {
    const shown = (at: { x: number; y: number }) => `${at.x.toFixed(1)} ${at.y.toFixed(1)}`;
    return points.map((at, place) => {
      const last = points[place - 1];
      if (!last) return `M${shown(at)}`;
      const middle = (last.x + at.x) / 2;
      return `C${shown({ x: middle, y: last.y })} ${shown({ x: middle, y: at.y })} ${shown(at)}`;
    }).join("");
  }
  const SIGNS: Record<string, string> = { succeeded: "✓", failed: "✗", stopped: "■", running: "▸", queued: "◷", following: "⇢", snapshot: "⧉", paused: "‖", waiting: "○" };
  const COLOURS: Record<string, string> = { failed: "var(--color-error)", stopped: "var(--color-warning)", paused: "var(--color-warning)", running: "var(--color-info)", succeeded: "var(--color-success)", following: "var(--color-success)" };

  /** The outline of a job: failed ones have cut corners, streams are slanted, others are round. */
  function outline(x: number, y: number, w: number, h: number, job: JobMap["jobs"][number]): string {
    const [l, t, r, b] = [x - w / 2, y - h / 2, x + w / 2, y + h / 2];
    if (BAD.includes(job.state)) return `M${l + 8} ${t}H${r - 8}L${r} ${t + 8}V${b - 8}L${r - 8} ${b}H${l + 8}L${l} ${b - 8}V${t + 8}Z`;
    if (job.is_stream) return `M${l + 8} ${t}H${r}L${r - 8} ${b}H${l}Z`;
    const q = h / 2;
    return `M${l + q} ${t}H${r - q}A${q} ${q} 0 0 1 ${r - q} ${b}H${l + q}A${q} ${q} 0 0 1 ${l + q} ${t}Z`;
  }
  const addressOf = (id: string) => {
    const job = jobs.get(id);
    return job ? (job.is_stream ? streamPage(job.name) : job.run && BAD.includes(job.state) ? runPage(job.run) : jobPage(job.name)) : "";
  };
</script>

<Head title="Map" under="which job reads and writes what, from left to right">
  {#snippet actions()}
    {#if object}<span class="text-sm">around <b class="font-semibold [overflow-wrap:anywhere]">{object}</b></span><a class="btn btn-sm" href="/map">All</a>
    {:else}<input class="input input-sm w-56" type="search" placeholder="job, table or file" aria-label="Find on the map" value={search} oninput={(event) => ask({ search: event.currentTarget.value, chosen: undefined })} />{/if}
  {/snippet}
</Head>
<Loaded of={map} lines={10}>
  {#snippet children(whole)}
    {#if !whole.jobs.length}
      <p class="panel px-4 py-6">There is nothing to draw yet: <a class="plain" href="/new-job">make a job</a>.</p>
    {:else}
      {#each badOf(shown ?? whole).slice(0, 5) as job (job.name)}
        {@const following = followingOf(job.name)}
        <p class="panel mb-2 flex flex-wrap items-baseline gap-x-3 px-3 py-1.5">
          <State name={job.state} /><a class="plain font-semibold [overflow-wrap:anywhere]" href={addressOf(jobId(job.name)) || jobPage(job.name)}>{job.name}</a>
          {#if job.at}<span class="text-base-content/75 text-xs">{moment(job.at)}</span>{/if}
          <span class="min-w-0 text-sm [overflow-wrap:anywhere]">{following.length ? `may be out of date: ${following.map((id) => id.replace(/^job /, "")).slice(0, 6).join(", ")}${following.length > 6 ? ` and ${following.length - 6} more` : ""}` : "nothing else depends on it"}</span>
          {#if following.length}<button class="btn btn-xs ml-auto" onclick={() => ask({ chosen: chosen === jobId(job.name) ? undefined : jobId(job.name) })}>{chosen === jobId(job.name) ? "Show all" : "Show"}</button>{/if}
        </p>
      {/each}
      <div class="grid items-start gap-3 {column ? 'lg:grid-cols-[minmax(0,1fr)_22rem]' : ''}">
        {#if picture}
          <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
          <div class="panel max-h-[calc(100vh-9rem)] min-w-0 overflow-auto p-1" tabindex="0" role="region" aria-label="The map">
            <svg viewBox="0 0 {picture.width} {picture.height}" style="width: {picture.width}px; max-width: {picture.width > 1500 ? 'none' : '100%'}" class="text-[11px]" role="group" aria-label="{count(shown?.jobs.length)} jobs and {count(shown?.objects.length)} objects: see the table">
              <defs>
                <marker id="arrow" viewBox="0 0 8 8" refX="7" refY="4" markerWidth="6" markerHeight="6" orient="auto"><path d="M0 0 8 4 0 8z" fill="currentColor" /></marker>
              </defs>
              {#each picture.lines as line (line.from + line.to + line.waits)}
                <path
                  d={pathOf(line.points)}
                  class="fill-none stroke-current"
                  stroke-width="1.2"
                  stroke-dasharray={line.waits ? "4 3" : undefined}
                  opacity={lit && !(lit.has(line.from) && lit.has(line.to)) ? 0.12 : 0.55}
                  marker-end="url(#arrow)"
                />
              {/each}
              {#each picture.spots as spot (spot.id)}
                {@const job = jobs.get(spot.id)}
                {@const one = objects.get(spot.id)}
                {#if job}
                  <a href={addressOf(spot.id)} style:opacity={lit && !lit.has(spot.id) ? 0.3 : 1}>
                    <title>job {job.name}: {job.state || "never run"}{job.at ? `, ${moment(job.at)}` : ""}</title>
                    <path d={outline(spot.x, spot.y, spot.width, spot.height, job)} fill="var(--color-base-200)" stroke={COLOURS[job.state] ?? "currentColor"} stroke-width={BAD.includes(job.state) ? 2.4 : 1.4} stroke-dasharray={job.state ? undefined : "3 3"} />
                    <text x={spot.x} y={spot.y - 3} text-anchor="middle" class="fill-current font-semibold">{short(job.name)}</text>
                    <text x={spot.x} y={spot.y + 11} text-anchor="middle" fill={COLOURS[job.state] ?? "currentColor"}>{SIGNS[job.state] ?? "·"} {job.state || "never run"}</text>
                  </a>
                {:else if one}
                  <a href={one.is_query ? mapPage(one.id) : lookPage(one.connection, one.name)} style:opacity={lit && !lit.has(spot.id) ? 0.3 : 1}>
                    <title>{one.connection}: {one.name}{stale.has(one.id) ? "; may be out of date: what it is made of has failed" : ""}</title>
                    <rect x={spot.x - spot.width / 2} y={spot.y - spot.height / 2} width={spot.width} height={spot.height} rx="2" fill="var(--color-base-100)" stroke={stale.has(one.id) ? "var(--color-warning)" : "currentColor"} stroke-width={stale.has(one.id) ? 2 : 0.8} />
                    <text x={spot.x} y={spot.y - 3} text-anchor="middle" class="fill-current">{one.is_query ? "query" : short(one.name)}</text>
                    <text x={spot.x} y={spot.y + 11} text-anchor="middle" class="fill-current" opacity="0.8">{one.connection}{stale.has(one.id) ? " !" : ""}</text>
                  </a>
                {/if}
              {/each}
            </svg>
          </div>
        {:else}
          <p class="panel px-4 py-4">{count(size)} jobs and objects are too many for one picture: search for one, or open an object's page and choose <em>On the map</em>.</p>
        {/if}
        {#if column}
          <section class="panel" aria-label="The column">
            <h2 class="flex"><span class="min-w-0 [overflow-wrap:anywhere]">Column {column}</span><button class="btn btn-xs btn-ghost ml-auto" aria-label="Close" onclick={() => ask({ column: undefined })}>✕</button></h2>
            <div class="px-3 py-2 text-sm">
              <Loaded of={steps}>
                {#snippet children(found)}
                  <ol class="space-y-2">
                    {#each found.steps as step, place (place)}
                      <li class="border-base-300 border-l-2 pl-2">
                        <div class="[overflow-wrap:anywhere]"><a class="plain" href={mapPage(step.target, step.target_column)}>{step.target}</a> <b class="font-semibold">{step.target_column}</b></div>
                        <div class="text-base-content/80 text-xs [overflow-wrap:anywhere]">
                          by <a class="plain" href={jobPage(step.job)}>{step.job}</a> from {step.source}
                          {#each step.source_columns as from, at (from)}{at ? ", " : " "}<a class="plain font-semibold" href={mapPage(step.source, from)}>{from}</a>{:else}, without a column{/each}
                          {#if step.expression}<div class="font-mono">{step.expression}</div>{/if}
                        </div>
                      </li>
                    {:else}
                      <li>No successful run has written it or read it yet.</li>
                    {/each}
                  </ol>
                {/snippet}
              </Loaded>
            </div>
          </section>
        {/if}
      </div>
      <details class="panel mt-3 min-w-0 px-3 py-2 text-xs">
        <summary class="cursor-pointer">as a table</summary>
        <!-- svelte-ignore a11y_no_noninteractive_tabindex -->
        <div class="overflow-x-auto" tabindex="0" role="region" aria-label="The map as a table">
          <table class="table-xs table">
            <thead><tr><th>Job</th><th>State</th><th>Reads</th><th>Writes</th><th>Waits for</th></tr></thead>
            <tbody>
              {#each (shown?.jobs ?? []).slice(0, 500) as job (job.name)}
                <tr><td class="min-w-24 [overflow-wrap:anywhere]"><a class="plain" href={jobPage(job.name)}>{job.name}</a></td><td>{#if job.state}<State name={job.state} />{:else}never run{/if}</td>
                  {#each [job.reads, job.writes, job.after] as ids, place (place)}<td class="min-w-32 [overflow-wrap:anywhere]">{ids.slice(0, 12).join(", ")}{ids.length > 12 ? ` and ${ids.length - 12} more` : ""}</td>{/each}
                </tr>
              {/each}
            </tbody>
          </table>
        </div>
      </details>
    {/if}
  {/snippet}
</Loaded>
