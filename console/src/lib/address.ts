import { useCallback } from "react";
import { useSearchParams } from "react-router";

/** Changes parts of the page's address; an empty value takes a part away. What is only on the way, as while typing, replaces the address. */
export function usePutAddress() {
  const [, setParams] = useSearchParams();
  return useCallback(
    (parts: Record<string, string>, { replace = false } = {}) =>
      setParams(
        (before) => {
          const next = new URLSearchParams(before);
          for (const [name, value] of Object.entries(parts)) {
            if (value) next.set(name, value);
            else next.delete(name);
          }
          return next;
        },
        { replace },
      ),
    [setParams],
  );
}
