import type { ProblemBody } from "./types";

/** A refusal of the service, as it said it. */
export class ApiProblem extends Error {
  constructor(readonly body: ProblemBody) {
    super(body.detail);
  }
}

function csrfToken(): string {
  return document.cookie.match(/(?:^|; )csrftoken=([^;]*)/)?.[1] ?? "";
}

export interface Answer<T> {
  data: T;
  etag: string | null;
}

/** One exchange with the API; throws ApiProblem. */
export async function exchange<T>(
  method: string,
  path: string,
  options: { json?: unknown; file?: string; headers?: Record<string, string>; signal?: AbortSignal } = {},
): Promise<Answer<T>> {
  const headers: Record<string, string> = { Accept: "application/json", ...options.headers };
  if (method !== "GET") headers["X-CSRFToken"] = csrfToken();
  let body: string | undefined;
  if (options.file !== undefined) {
    headers["Content-Type"] = "application/yaml";
    body = options.file;
  } else if (options.json !== undefined) {
    headers["Content-Type"] = "application/json";
    body = JSON.stringify(options.json);
  }
  return settle<T>(() => fetch(`/api/v1/${path}`, { method, headers, body, signal: options.signal }));
}

/** Sends a file as it is. */
export async function exchangeBytes<T>(path: string, body: Blob): Promise<Answer<T>> {
  const headers = { Accept: "application/json", "Content-Type": "application/octet-stream", "X-CSRFToken": csrfToken() };
  return settle<T>(() => fetch(`/api/v1/${path}`, { method: "PUT", headers, body }));
}

async function settle<T>(call: () => Promise<Response>): Promise<Answer<T>> {
  let response: Response;
  try {
    response = await call();
  } catch {
    throw new ApiProblem({
      status: 0,
      code: "service-unreachable",
      detail: "The service does not answer.",
      hint: "Is it running? The page tries again when you do.",
    });
  }
  const data = response.status === 204 ? undefined : await response.json().catch(() => undefined);
  if (!response.ok) {
    throw new ApiProblem(
      data?.detail
        ? data
        : { status: response.status, code: "unknown", detail: `The service answered with status ${response.status}.` },
    );
  }
  return { data: data as T, etag: response.headers.get("ETag") };
}

export async function get<T>(path: string, signal?: AbortSignal): Promise<T> {
  return (await exchange<T>("GET", path, { signal })).data;
}

export async function post<T>(path: string, json?: unknown, signal?: AbortSignal): Promise<T> {
  return (await exchange<T>("POST", path, { json, signal })).data;
}

export function problemOf(error: unknown): ProblemBody {
  if (error instanceof ApiProblem) return error.body;
  return { status: 0, code: "console-error", detail: String(error) };
}
