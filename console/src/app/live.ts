import { useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { listen, refresh } from "../api";

/** Follows the service's news while somebody is signed in; tells whether it is connected. */
export function useLive(signedIn: boolean): boolean {
  const queries = useQueryClient();
  const [live, setLive] = useState(true);
  useEffect(() => {
    if (!signedIn) return;
    const stop = new AbortController();
    // News come in bursts; what is shown is fetched again once for each burst.
    let due: ReturnType<typeof setTimeout> | undefined;
    const heard = new Set<string>();
    void listen(
      (word) => {
        heard.add(word);
        due ??= setTimeout(() => {
          due = undefined;
          refresh(queries, heard);
          heard.clear();
        }, 150);
      },
      setLive,
      stop.signal,
    );
    // A page that the browser keeps for its Back button would keep its stream
    // too, and only six connections go to one host.
    const hide = () => stop.abort();
    const show = (e: PageTransitionEvent) => e.persisted && location.reload();
    addEventListener("pagehide", hide);
    addEventListener("pageshow", show);
    return () => {
      clearTimeout(due);
      stop.abort();
      removeEventListener("pagehide", hide);
      removeEventListener("pageshow", show);
    };
  }, [signedIn, queries]);
  return live;
}
