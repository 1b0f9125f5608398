import type { Fields } from "../../api";

/** The fields as they are saved: of a list, what was added and left empty is dropped. */
export function pruned(fields: Fields): Fields {
  const of = (v: unknown): unknown => {
    if (Array.isArray(v)) {
      const kept = v.map(of).filter((x) => x !== "" && x !== undefined && x !== null && !(typeof x === "object" && Object.keys(x).length === 0));
      return kept.length ? kept : undefined;
    }
    if (typeof v === "object" && v !== null) return Object.fromEntries(Object.entries(v).map(([k, x]) => [k, of(x)]).filter(([, x]) => x !== undefined));
    return v;
  };
  return of(fields) as Fields;
}
