// Brings together two changes of one model: by type, and within a type by field. What only one side
// has changed is taken; what both have changed differently is a conflict, for which mine is kept.

import type { Field, Model, Type } from "../../api";

const same = (a: unknown, b: unknown) => JSON.stringify(a) === JSON.stringify(b);

export type Merged = { model: Model; conflicts: string[] };

/** One of a list's parts as it comes out of the merge; undefined where it is gone. */
function pick<T>(what: string, base: T | undefined, mine: T | undefined, theirs: T | undefined, conflicts: string[]): T | undefined {
  if (same(mine, theirs) || same(base, theirs)) return mine;
  if (same(base, mine)) return theirs;
  conflicts.push(what);
  return mine;
}

/** Merges lists of named parts. The order is mine, and what only theirs has comes after what it follows there. */
function byName<T>(name: (part: T) => string, base: T[], mine: T[], theirs: T[], one: (key: string, b: T | undefined, m: T | undefined, t: T | undefined) => T | undefined): T[] {
  const find = (list: T[], key: string) => list.find((x) => name(x) === key);
  const order = (same(base.map(name), mine.map(name)) ? theirs : mine).map(name);
  for (const list of [mine, theirs])
    list.forEach((x, i) => {
      if (order.includes(name(x))) return;
      const before = list.slice(0, i).findLast((y) => order.includes(name(y)));
      order.splice(before === undefined ? 0 : order.indexOf(name(before)) + 1, 0, name(x));
    });
  return order.map((key) => one(key, find(base, key), find(mine, key), find(theirs, key))).filter((x): x is T => x !== undefined);
}

function mergeType(name: string, base: Type | undefined, mine: Type | undefined, theirs: Type | undefined, conflicts: string[]): Type | undefined {
  if (!base || !mine || !theirs) return pick(name, base, mine, theirs, conflicts);
  const keys = new Set([...Object.keys(base), ...Object.keys(mine), ...Object.keys(theirs)]) as Set<keyof Type>;
  keys.delete("fields");
  const out: Record<string, unknown> = {};
  for (const k of keys) {
    const v = pick<unknown>(`${name}, ${k}`, base[k], mine[k], theirs[k], conflicts);
    if (v !== undefined) out[k] = v;
  }
  const fields = byName<Field>((f) => f.name, base.fields, mine.fields, theirs.fields, (key, b, m, t) => pick(`${name}.${key}`, b, m, t, conflicts));
  return { ...(out as Omit<Type, "fields">), fields };
}

/** Brings mine and theirs together, which both began with base. */
export function merge(base: Model, mine: Model, theirs: Model): Merged {
  const conflicts: string[] = [];
  const types = byName<Type>((t) => t.name, base.types, mine.types, theirs.types, (key, b, m, t) => mergeType(key, b, m, t, conflicts));
  const locales = pick("the locales", base.locales, mine.locales, theirs.locales, conflicts) ?? mine.locales;
  return { model: { ...theirs, locales, types }, conflicts };
}
