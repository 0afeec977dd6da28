/** What was asked of databases, kept in this browser, the newest first. */
export interface Asked {
  connection: string;
  sql: string;
  at: string;
}

const KEY = "asked";
const MOST = 100;

export function history(): Asked[] {
  try {
    const kept: unknown = JSON.parse(localStorage.getItem(KEY) ?? "[]");
    return Array.isArray(kept) ? (kept as Asked[]).filter((one) => typeof one?.sql === "string" && typeof one.connection === "string") : [];
  } catch {
    return [];
  }
}

export function remember(connection: string, sql: string): Asked[] {
  const others = history().filter((one) => one.sql !== sql || one.connection !== connection);
  const all = [{ connection, sql, at: new Date().toISOString() }, ...others].slice(0, MOST);
  localStorage.setItem(KEY, JSON.stringify(all));
  return all;
}

/** Rows as CSV: what is NULL is empty, what could be mistaken is quoted. */
export function csvOf(columns: string[], rows: unknown[][]): string {
  const cell = (value: unknown) => {
    if (value === null || value === undefined) return "";
    const text = typeof value === "object" ? JSON.stringify(value) : String(value);
    return text === "" || /[",\r\n]/.test(text) ? `"${text.replaceAll('"', '""')}"` : text;
  };
  return [columns, ...rows].map((row) => row.map(cell).join(",")).join("\r\n") + "\r\n";
}

export function save(name: string, type: string, text: string): void {
  const link = document.createElement("a");
  link.href = URL.createObjectURL(new Blob([text], { type }));
  link.download = name;
  link.click();
  setTimeout(() => URL.revokeObjectURL(link.href), 10_000);
}
