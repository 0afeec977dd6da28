/** Addresses of pages. */
const enc = encodeURIComponent;

export const jobPage = (name: string) => `/jobs/${enc(name)}`;
export const runPage = (number: number) => `/runs/${number}`;
export const streamPage = (name: string) => `/streams/${enc(name)}`;

export function connectionPage(name: string): string {
  return `/connections/${enc(name)}`;
}

export function lookPage(connection: string, object: string): string {
  return `/connections/${enc(connection)}/look/${enc(object)}`;
}

/** Where a database is asked; `sql` stands in the field at once. */
export function askPage(connection: string, sql = ""): string {
  return `/ask/${enc(connection)}${query({ sql })}`;
}

/** The map, of all jobs or around one object; `column` shows where that one comes from. */
export function mapPage(object = "", column = ""): string {
  return `/map${query({ object, column })}`;
}

/** What stands after the ? of an address; what is empty is left out. */
export function query(values: Record<string, string | number | boolean | undefined>): string {
  const given = Object.entries(values).filter(([, value]) => value !== undefined && value !== "" && value !== false);
  return given.length ? `?${given.map(([key, value]) => `${key}=${enc(String(value))}`).join("&")}` : "";
}

export function api(connection: string, rest = "", values: Record<string, string | number | boolean | undefined> = {}): string {
  return `connections/${enc(connection)}${rest}${query(values)}`;
}
