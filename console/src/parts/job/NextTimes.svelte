<script lang="ts">
  import { post, problemOf } from "../../lib/api";
  import { moment } from "../../lib/format";

  /** When a schedule comes next, as it is written. */
  let { schedule }: { schedule: unknown } = $props();
  const SHOWN = 4;
  const PAUSE = 250;
  let times = $state<string[]>([]);
  let problem = $state("");
  $effect(() => {
    const body = $state.snapshot(schedule) as Record<string, unknown>;
    const abort = new AbortController();
    const waiting = setTimeout(() => {
      post<{ next: string[] }>("schedules/times", { cron: body?.cron, ...(body?.timezone ? { timezone: body.timezone } : {}) }, abort.signal)
        .then((found) => ([times, problem] = [found.next, ""]))
        .catch((error) => {
          if (!abort.signal.aborted) [times, problem] = [[], problemOf(error).detail];
        });
    }, PAUSE);
    return () => {
      clearTimeout(waiting);
      abort.abort();
    };
  });
</script>

{#if problem}<p class="text-error text-xs" role="status">✗ {problem}</p>
{:else if times.length}<p class="text-xs" role="status" data-testid="next-times">Comes next, in your time: {times.slice(0, SHOWN).map((one) => moment(one).slice(0, 16)).join(", ")}</p>{/if}
