/** Addresses of the pages about connections and what is in them. */
const enc = encodeURIComponent;

export function connectionPage(name: string): string {
  return `#/connections/${enc(name)}`;
}

export function lookPage(connection: string, object: string): string {
  return `#/connections/${enc(connection)}/look/${enc(object)}`;
}

export function api(connection: string, rest = "", query: Record<string, string | number | boolean | undefined> = {}): string {
  const given = Object.entries(query).filter(([, value]) => value !== undefined && value !== "" && value !== false);
  const asked = given.map(([key, value]) => `${key}=${enc(String(value))}`).join("&");
  return `connections/${enc(connection)}${rest}${asked ? `?${asked}` : ""}`;
}
