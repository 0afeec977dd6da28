/** The address after the #: `#/jobs/bookings`. */
function parts(): string[] {
  return location.hash
    .replace(/^#\/?/, "")
    .split("/")
    .filter(Boolean)
    .map(decodeURIComponent);
}

export const route = $state({ parts: parts() });

window.addEventListener("hashchange", () => {
  route.parts = parts();
  window.scrollTo(0, 0);
});

export function go(path: string): void {
  location.hash = path;
}
