import { query } from "./places";

/** The address: `/jobs/bookings?drawer=rows` has the parts jobs and bookings. */
interface Route {
  parts: string[];
  asked: Record<string, string>;
}

function read(): Route {
  return {
    parts: location.pathname.split("/").filter(Boolean).map(decodeURIComponent),
    asked: Object.fromEntries(new URLSearchParams(location.search)),
  };
}

// addresses of earlier versions stood after a #
if (location.hash.startsWith("#/")) history.replaceState(null, "", location.hash.slice(1));

export const route = $state<Route>(read());

function show(): void {
  const before = route.parts.join("/");
  Object.assign(route, read());
  if (route.parts.join("/") !== before) {
    window.scrollTo(0, 0);
    // who uses the keyboard, or listens, begins at the new page
    document.getElementById("page")?.focus({ preventScroll: true });
  }
}

export function go(path: string): void {
  history.pushState(null, "", path);
  show();
}

/** Puts filters into the address, so that what is seen can be sent to someone else; the page stays. */
export function ask(values: Record<string, string | number | undefined>): void {
  const all = { ...route.asked, ...values };
  history.replaceState(null, "", location.pathname + query(all));
  Object.assign(route, read());
}

window.addEventListener("popstate", show);
document.addEventListener("click", (event) => {
  const link = (event.target as Element | null)?.closest?.("a[href]") as HTMLAnchorElement | null;
  if (!link || event.defaultPrevented || event.button || event.ctrlKey || event.metaKey || event.shiftKey || event.altKey) return;
  const path = link.getAttribute("href") ?? "";
  const ours = path.startsWith("/") && !["/api/", "/static/", "/docs"].some((other) => path.startsWith(other));
  if (!ours || link.target || link.hasAttribute("download")) return;
  event.preventDefault();
  go(path);
});
