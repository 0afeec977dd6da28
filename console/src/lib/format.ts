export function count(value: number | null | undefined): string {
  return value === null || value === undefined ? "—" : value.toLocaleString("en");
}

export function bytes(value: number | null | undefined): string {
  let rest = value ?? 0;
  for (const unit of ["B", "kB", "MB", "GB"]) {
    if (rest < 1000 || unit === "GB") return `${unit === "B" || rest >= 100 ? rest.toFixed(0) : rest.toFixed(1)} ${unit}`;
    rest /= 1000;
  }
  return "";
}

export function moment(text: string | null | undefined): string {
  if (!text) return "—";
  const date = new Date(text);
  const two = (n: number) => String(n).padStart(2, "0");
  return `${date.getFullYear()}-${two(date.getMonth() + 1)}-${two(date.getDate())} ${clock(text)}`;
}

export function clock(text: string): string {
  const date = new Date(text);
  return [date.getHours(), date.getMinutes(), date.getSeconds()].map((n) => String(n).padStart(2, "0")).join(":");
}

/** Time between two moments, in words. */
export function took(from: string | null | undefined, to: string | null | undefined): string {
  if (!from || !to) return "—";
  const seconds = (Date.parse(to) - Date.parse(from)) / 1000;
  if (seconds < 1) return `${Math.max(0, Math.round(seconds * 1000))} ms`;
  if (seconds < 100) return `${seconds.toFixed(1)} s`;
  return `${Math.floor(seconds / 60)} min ${Math.round(seconds % 60)} s`;
}

/** What a run is that is no load of its job. */
export function follows(run: { kind: string; origin: number | null }): string {
  if (run.kind === "load") return "";
  return run.kind === "repair" ? "repair" : `${run.kind} of ${run.origin}`;
}

/** Who or what has started a run. */
export function startedBy(run: { trigger: string; started_by: string | null; scheduled_for: string | null }): string {
  if (run.trigger === "schedule") return "its schedule";
  if (run.trigger === "after") return "other jobs";
  return run.started_by ?? "—";
}

/** The lag of a stream's target; — where that is not known now. */
export function lagOf(stream: { state: string; lag: number | null }): string {
  if (stream.state !== "following" || stream.lag === null) return "—";
  return stream.lag < 120 ? `${stream.lag.toFixed(1)} s` : `${Math.round(stream.lag / 60)} min`;
}

/** The zone of the viewer's clock, in which moments are shown: "Europe/Zurich, UTC+2". */
export const zoneName = (() => {
  const name = Intl.DateTimeFormat().resolvedOptions().timeZone;
  const minutes = -new Date().getTimezoneOffset();
  const hours = Math.abs(minutes) / 60;
  const off = minutes ? `UTC${minutes < 0 ? "−" : "+"}${Number.isInteger(hours) ? hours : hours.toFixed(2)}` : "UTC";
  return name === off ? name : `${name}${minutes ? `, ${off}` : ""}`;
})();
