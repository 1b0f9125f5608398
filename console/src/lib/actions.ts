// What can be done on the page shown, for the palette and for keys. A page says it while it is shown.

import { useEffect, useEffectEvent } from "react";

export type Action = { name: string; run: () => void; keys?: string };

const offered = new Set<() => Action[]>();

/** Offers actions while the component is shown. */
export function useActions(actions: Action[]) {
  const now = useEffectEvent(() => actions);
  useEffect(() => {
    const mine = () => now();
    offered.add(mine);
    return () => void offered.delete(mine);
  }, []);
}

/** All that can be done now. */
export const actionsNow = () => [...offered].flatMap((one) => one());

/** Runs save on Ctrl-S, or Command-S, while the component is shown. */
export function useSaveKey(save: (() => void) | null) {
  const run = useEffectEvent(() => save?.());
  useEffect(() => {
    const press = (e: KeyboardEvent) => {
      if (e.key.toLowerCase() !== "s" || !(e.ctrlKey || e.metaKey) || e.altKey) return;
      e.preventDefault(); // the browser would save the page
      if (!e.repeat) run();
    };
    addEventListener("keydown", press);
    return () => removeEventListener("keydown", press);
  }, []);
}
