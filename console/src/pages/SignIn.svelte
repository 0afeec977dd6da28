<script lang="ts">
  import { problemOf } from "../lib/api";
  import { signIn } from "../lib/session.svelte";
  import type { ProblemBody } from "../lib/types";
  import Problem from "../parts/Problem.svelte";

  let user = $state("");
  let password = $state("");
  let busy = $state(false);
  let problem = $state<ProblemBody | null>(null);

  async function submit(event: SubmitEvent) {
    event.preventDefault();
    busy = true;
    problem = null;
    try {
      await signIn(user, password);
    } catch (error) {
      problem = problemOf(error);
    }
    busy = false;
  }
</script>

<div class="bg-base-200 flex min-h-screen flex-col items-center px-5 pt-[16vh]">
  <form class="panel w-full max-w-sm p-6" onsubmit={submit}>
    <h1 class="mb-4 flex items-center gap-2 text-lg font-semibold">
      <svg viewBox="0 0 16 16" class="fill-primary size-6" aria-hidden="true"><path d="M1 13 6 4l3 5 2-3 4 7z" /></svg>
      Sign in to Ultravect
    </h1>
    <label class="mb-1 block text-sm" for="user">User</label>
    <!-- svelte-ignore a11y_autofocus -->
    <input id="user" class="input mb-3 w-full" autocomplete="username" autofocus required bind:value={user} />
    <label class="mb-1 block text-sm" for="password">Password</label>
    <input
      id="password"
      type="password"
      class="input mb-4 w-full"
      autocomplete="current-password"
      required
      bind:value={password}
    />
    {#if problem}<div class="mb-4"><Problem {problem} /></div>{/if}
    <button class="btn btn-primary w-full" disabled={busy}>Sign in</button>
  </form>
</div>
