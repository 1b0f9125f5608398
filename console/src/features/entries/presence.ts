import { useCallback, useEffect, useRef, useState } from "react";
import { call, type FieldEditor } from "../../api";

// One name for this tab, across reloads.
const session = sessionStorage.getItem("ubiquon.session") ?? crypto.randomUUID();
sessionStorage.setItem("ubiquon.session", session);

type Others = { others: string[]; editing: FieldEditor[] };

/**
 * Tells that the entry is open here and which field is edited, and returns who else has it open
 * and edits what. touch says that a field is edited; "" that none is.
 */
export function usePresence(id: string): Others & { touch: (field: string) => void } {
  const [there, setThere] = useState<Others>({ others: [], editing: [] });
  const field = useRef("");
  const tell = useCallback(
    (closed: boolean) =>
      call<Others>(`/entries/${encodeURIComponent(id)}/open`, { method: "POST", body: { session, field: field.current, closed } }).then(
        setThere,
        () => {}, // told again soon
      ),
    [id],
  );
  useEffect(() => {
    void tell(false);
    const every = setInterval(() => void tell(false), 10_000);
    return () => {
      clearInterval(every);
      field.current = "";
      void tell(true);
    };
  }, [tell]);
  const touch = useCallback(
    (name: string) => {
      if (field.current === name) return;
      field.current = name;
      void tell(false);
    },
    [tell],
  );
  return { ...there, touch };
}
