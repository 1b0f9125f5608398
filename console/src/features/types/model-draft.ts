// What somebody changes about the model, until it is applied: it lives in this tab, across pages
// and reloads, and belongs to the account that made it.

import { useMemo, useSyncExternalStore } from "react";
import type { Model } from "../../api";
import { useWho } from "../../lib/who";
import { useModel } from "../../lib/use-model";

/** A model as it would be, and the one that was in force when it was begun. */
export type ModelDraft = { base: Model; model: Model };

const listeners = new Set<() => void>();

function read(name: string): ModelDraft | null {
  try {
    return JSON.parse(sessionStorage.getItem(name) ?? "null") as ModelDraft | null;
  } catch {
    return null; // what another version has kept
  }
}

/** The draft of the account, null if there is none, and how to change it. */
export function useModelDraft() {
  const name = "ubiquon.model " + useWho().name;
  const present = useModel().data;
  const src = useSyncExternalStore(
    (changed) => {
      listeners.add(changed);
      return () => listeners.delete(changed);
    },
    () => sessionStorage.getItem(name),
  );
  const draft = useMemo(() => (src === null ? null : read(name)), [src, name]);
  function put(next: ModelDraft | null) {
    if (next) sessionStorage.setItem(name, JSON.stringify(next));
    else sessionStorage.removeItem(name);
    listeners.forEach((changed) => changed());
  }
  return {
    draft,
    /** Changes the model; the first change begins the draft. */
    set: (model: Model) => put({ base: draft?.base ?? present ?? model, model }),
    /** Puts a draft on another base, with what became of it there. */
    rebase: (base: Model, model: Model) => put({ base, model }),
    drop: () => put(null),
  };
}
