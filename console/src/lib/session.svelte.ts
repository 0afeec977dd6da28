import { exchange, get } from "./api";
import type { User } from "./types";

const RANKS = ["viewer", "operator", "editor", "admin"];

/** Who is signed in; undefined until the service has said. */
export const session = $state<{ user: User | null | undefined }>({ user: undefined });

export async function recall(): Promise<void> {
  session.user = await get<User>("session").catch(() => null);
}

export async function signIn(user: string, password: string): Promise<void> {
  session.user = (await exchange<User>("POST", "session", { json: { user, password } })).data;
}

export async function signOut(): Promise<void> {
  await exchange("DELETE", "session").catch(() => undefined);
  session.user = null;
}

export function may(role: User["role"]): boolean {
  return !!session.user && RANKS.indexOf(session.user.role) >= RANKS.indexOf(role);
}
