// Drafts of what is being typed: they survive a reload and an expired session, and belong to the
// account that typed them.

import { useEffect, useState } from "react";
import type { Fields } from "../api";

/** What is typed and not saved: the fields, and the revision that they began with. */
export type Draft = { fields: Fields; began: number };

const keyOf = (account: string, name: string) => `ubiquon.draft ${account} ${name}`;

function read(key: string): Draft | null {
  try {
    return JSON.parse(sessionStorage.getItem(key) ?? "null") as Draft | null;
  } catch {
    return null; // what another version has kept
  }
}

/** The draft of this name of an account; null: nothing is unsaved. */
export function useDraft(account: string, name: string) {
  const key = keyOf(account, name);
  const [held, setHeld] = useState(() => ({ key, draft: read(key) }));
  if (held.key !== key) setHeld({ key, draft: read(key) }); // the page is of something else now
  const draft = held.key === key ? held.draft : read(key);
  const setDraft = (next: Draft | null | ((now: Draft | null) => Draft | null)) => setHeld((now) => ({ key: now.key, draft: typeof next === "function" ? next(now.draft) : next }));
  useEffect(() => {
    if (held.draft === null) sessionStorage.removeItem(held.key);
    else sessionStorage.setItem(held.key, JSON.stringify(held.draft));
  }, [held]);
  return [draft, setDraft] as const;
}
