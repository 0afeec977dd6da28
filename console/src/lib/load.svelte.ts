import { exchange, problemOf } from "./api";
import type { ProblemBody } from "./types";

/** What a page loads: the last answer, whether it is being asked for, and why it could not be had. */
export class Loading<T> {
  data = $state.raw<T | undefined>(undefined);
  etag = $state.raw<string | null>(null);
  problem = $state.raw<ProblemBody | null>(null);
  busy = $state(false);
  #asked = $state(0);

  /** Asks again now. */
  again = (): void => {
    this.#asked += 1;
  };

  get times(): number {
    return this.#asked;
  }
}

interface Options {
  /** Milliseconds until it is asked for again; not while the page is hidden. Left out: it is asked for once. */
  every?: number;
  /** Milliseconds that what is typed has to rest before it is asked for. */
  rest?: number;
}

/**
 * Loads what `path` names, anew whenever that changes; nothing while it is null. A request that no longer matters is aborted, so that
 * an old answer never replaces a newer one.
 */
export function load<T>(path: () => string | null, { every, rest }: Options = {}): Loading<T> {
  const made = new Loading<T>();
  let first = true;
  $effect(() => {
    const asked = path();
    void made.times;
    if (asked === null) return;
    const abort = new AbortController();
    let timer: ReturnType<typeof setTimeout> | undefined;
    async function ask() {
      if (document.hidden && made.data !== undefined && every) {
        timer = setTimeout(ask, every);
        return;
      }
      made.busy = true;
      try {
        const answer = await exchange<T>("GET", asked!, { signal: abort.signal });
        [made.data, made.etag, made.problem] = [answer.data, answer.etag, null];
      } catch (error) {
        if (abort.signal.aborted) return;
        made.problem = problemOf(error);
      }
      made.busy = false;
      if (every) timer = setTimeout(ask, every);
    }
    if (first || !rest) void ask();
    else timer = setTimeout(ask, rest);
    first = false;
    return () => {
      abort.abort();
      clearTimeout(timer);
    };
  });
  return made;
}

/** What a page does when it is asked to: one thing at a time, with the problem if it fails. */
export class Doing {
  /** What is being done, "" for nothing. */
  what = $state("");
  problem = $state.raw<ProblemBody | null>(null);

  async do<T>(what: string, action: () => Promise<T>): Promise<T | undefined> {
    if (this.what) return undefined;
    [this.what, this.problem] = [what, null];
    try {
      return await action();
    } catch (error) {
      this.problem = problemOf(error);
    } finally {
      this.what = "";
    }
    return undefined;
  }
}
