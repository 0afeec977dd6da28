/** The pages by their addresses; each is loaded when it is first opened. */
import type { Component } from "svelte";

// eslint-disable-next-line @typescript-eslint/no-explicit-any
type Page = Component<any>;
type Loader = () => Promise<{ default: Page }>;

/** `:name` is a part of the address that the page gets under this name. */
const PAGES: Record<string, Loader> = {
  today: () => import("../pages/Today.svelte"),
  runs: () => import("../pages/Runs.svelte"),
  "runs/:number": () => import("../pages/Run.svelte"),
  streams: () => import("../pages/Streams.svelte"),
  "streams/:name": () => import("../pages/Stream.svelte"),
  schedules: () => import("../pages/Schedules.svelte"),
  jobs: () => import("../pages/Jobs.svelte"),
  "jobs/:name": () => import("../pages/Job.svelte"),
  "new-job": () => import("../pages/NewJob.svelte"),
  map: () => import("../pages/Map.svelte"),
  connections: () => import("../pages/Connections.svelte"),
  "connections/:name": () => import("../pages/Connection.svelte"),
  "connections/:connection/look/:object": () => import("../pages/Look.svelte"),
  "new-connection": () => import("../pages/NewConnection.svelte"),
  ask: () => import("../pages/Ask.svelte"),
  "ask/:connection": () => import("../pages/Ask.svelte"),
  feeds: () => import("../pages/Feeds.svelte"),
  "feeds/:name": () => import("../pages/Feed.svelte"),
  layouts: () => import("../pages/Layouts.svelte"),
  messages: () => import("../pages/Messages.svelte"),
  access: () => import("../pages/Access.svelte"),
};

export interface Found {
  load: Loader;
  props: Record<string, string>;
}

/** The page of an address, null where there is none. */
export function pageAt(parts: string[]): Found | null {
  const wanted = parts.length ? parts : ["today"];
  for (const [path, load] of Object.entries(PAGES)) {
    const names = path.split("/");
    if (names.length !== wanted.length) continue;
    const props: Record<string, string> = {};
    const fits = names.every((name, at) => {
      if (!name.startsWith(":")) return name === wanted[at];
      props[name.slice(1)] = wanted[at]!;
      return true;
    });
    if (fits) return { load, props };
  }
  return null;
}

/** The side of navigation: groups by what is done there. `sign` is drawn before the name. */
export const NAVIGATION: { name: string; pages: { path: string; name: string; sign: string }[] }[] = [
  {
    name: "Watch",
    pages: [
      { path: "today", name: "Today", sign: "M2 12h3l2-7 3 9 2-4h2" },
      { path: "runs", name: "Runs", sign: "M4 3l8 5-8 5z" },
      { path: "streams", name: "Streams", sign: "M1 6c3-3 5 3 8 0s4-1 6 0M1 11c3-3 5 3 8 0s4-1 6 0" },
      { path: "schedules", name: "Schedules", sign: "M8 2a6 6 0 1 0 0 12A6 6 0 0 0 8 2zM8 5v3l2 2" },
    ],
  },
  {
    name: "Build",
    pages: [
      { path: "jobs", name: "Jobs", sign: "M2 4h5v4H2zM9 8h5v4H9zM7 6h4v2" },
      { path: "map", name: "Map", sign: "M3 3h3v3H3zM10 6.5h3v3h-3zM3 10h3v3H3zM6 4.500h2l2 3M6 11.500h2l2-3" },
      { path: "connections", name: "Connections", sign: "M3 4c0-3 10-3 10 0v8c0 3-10 3-10 0zM3 4c0 3 10 3 10 0M3 8c0 3 10 3 10 0" },
      { path: "ask", name: "Ask", sign: "M2 3h12v8H7l-3 3v-3H2z" },
      { path: "feeds", name: "Feeds", sign: "M2 4h7M2 8h7M2 12h7M9 4l5 4-5 4" },
      { path: "layouts", name: "Layouts", sign: "M2 3h12v10H2zM6 3v10M2 6h12" },
    ],
  },
  {
    name: "Service",
    pages: [
      { path: "messages", name: "Messages", sign: "M2 4h12v8H2zM2 4l6 5 6-5" },
      { path: "access", name: "Access", sign: "M8 2a3 3 0 1 0 0 6 3 3 0 0 0 0-6zM3 14c0-6 10-6 10 0" },
    ],
  },
];
