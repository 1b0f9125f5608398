// A field as a form has it, and back: what a kind has no use for is dropped, what the form does not
// show is kept.

import type { Field, Type } from "../../api";

type OptionValues = { value: string; label: string; labels: Record<string, string> };

export type FieldValues = {
  name: string;
  kind: string;
  label: string;
  help: string;
  pattern: string;
  inverse: string;
  madeFrom: string;
  deprecated: string;
  deprecatedSince: string;
  sunset: string;
  min: string;
  max: string;
  default: string;
  schema: string;
  required: boolean;
  translated: boolean;
  several: boolean;
  unique: boolean;
  indexed: boolean;
  types: Record<string, boolean>;
  media: string;
  maxBytes: string;
  minWidth: string;
  renditions: string;
  options: OptionValues[];
};

export const has = (kind: string, ...of: string[]) => of.includes(kind);

const json = (v: unknown) => (v === undefined || v === null ? "" : JSON.stringify(v, null, typeof v === "object" ? 2 : 0));

export function valuesOf(f: Field): FieldValues {
  return {
    name: f.name,
    kind: f.kind,
    label: f.label ?? "",
    help: f.help ?? "",
    pattern: f.pattern ?? "",
    inverse: f.inverse ?? "",
    madeFrom: f.madeFrom ?? "",
    deprecated: f.deprecated ?? "",
    deprecatedSince: f.deprecatedSince ?? "",
    sunset: f.sunset ?? "",
    min: f.min === undefined || f.min === null ? "" : String(f.min),
    max: f.max === undefined || f.max === null ? "" : String(f.max),
    default: json(f.default),
    schema: json(f.schema),
    required: !!f.required,
    translated: !!f.translated,
    several: !!f.several,
    unique: !!f.unique,
    indexed: !!f.indexed,
    types: f.kind === "file" ? {} : Object.fromEntries((f.types ?? []).map((t) => [t, true])),
    media: f.kind === "file" ? (f.types ?? []).join(", ") : "",
    maxBytes: f.maxBytes ? String(f.maxBytes) : "",
    minWidth: f.minWidth ? String(f.minWidth) : "",
    renditions: json(f.renditions && Object.fromEntries(f.renditions.map(({ name, ...one }) => [name, one]))),
    options: (f.options ?? []).map((o) => ({ value: o.value, label: o.label, labels: o.labels ?? {} })),
  };
}

/** The parts of a text parted by commas; nothing where there are none. */
const list = (text: string) => {
  const out = text.split(",").map((t) => t.trim()).filter(Boolean);
  return out.length > 0 ? out : undefined;
};

const empty = (kind: string): Type[] => (kind === "record" ? [{ name: "", plural: "", label: "", fields: [{ name: "text", kind: "text" }] }] : [{ name: "prose", plural: "", label: "Text", fields: [{ name: "text", kind: "prose" }] }]);

/** The field that a form describes; before is the field as it was. locale is the default one, in which an option's first label is. */
export function fieldOf(v: FieldValues, before: Field, { known, inner, locale }: { known: boolean; inner: Type[]; locale: string }): Field {
  const of = (...kinds: string[]) => has(v.kind, ...kinds);
  const when = <T>(yes: boolean, value: T) => (yes ? value : undefined);
  const number = (text: string) => (text === "" || text === undefined ? undefined : Number(text));
  const bounded = of("text", "integer", "decimal", "money", "blocks") || v.several;
  const several = when(!of("blocks", "slug") && v.several, true);
  const out: Field = {
    ...before,
    name: v.name,
    kind: v.kind,
    was: known && v.name !== before.name ? (before.was ?? before.name) : before.was,
    label: v.label || undefined,
    help: v.help || undefined,
    deprecated: v.deprecated || undefined,
    deprecatedSince: v.deprecated ? v.deprecatedSince || undefined : undefined,
    sunset: v.deprecated ? v.sunset || undefined : undefined,
    required: v.required || undefined,
    translated: v.translated || undefined,
    several,
    unique: when(of("text", "integer", "decimal", "date", "datetime", "slug") && v.unique, true),
    indexed: when(!of("prose", "file", "location", "json", "record", "blocks") && v.indexed, true),
    min: when(bounded, number(v.min)),
    max: when(bounded, number(v.max)),
    pattern: when(of("text"), v.pattern || undefined),
    madeFrom: when(of("slug"), v.madeFrom || undefined),
    inverse: when(of("reference"), v.inverse || undefined),
    types: of("file")
      ? list(v.media)
      : when(
          of("reference"),
          Object.entries(v.types)
            .filter(([, yes]) => yes)
            .map(([name]) => name),
        ),
    maxBytes: when(of("file"), number(v.maxBytes)),
    minWidth: when(of("file"), number(v.minWidth)),
    renditions: when(of("file") && v.renditions.trim() !== "", v.renditions.trim() && Object.entries(JSON.parse(v.renditions) as Record<string, object>).map(([name, one]) => ({ name, ...one }))) as Field["renditions"],
    marks: when(of("prose"), before.marks),
    default: v.default.trim() ? (JSON.parse(v.default) as unknown) : undefined,
    schema: when(of("json") && v.schema.trim() !== "", v.schema.trim() && (JSON.parse(v.schema) as unknown)),
    inner: when(of("record", "blocks"), before.kind === v.kind || inner.length ? inner : empty(v.kind)),
    options: when(
      of("choice"),
      v.options
        .filter((o) => o.value.trim() !== "")
        .map((o) => {
          const label = o.label.trim() || o.value.trim();
          const labels = Object.fromEntries(Object.entries(o.labels).filter(([tag, text]) => tag !== locale && text.trim() !== ""));
          const old = before.options?.find((x) => x.value === o.value.trim());
          return { ...old, value: o.value.trim(), label, labels: Object.keys(labels).length || old?.labels?.[locale] ? { ...labels, [locale]: label } : undefined };
        }),
    ),
  };
  if (v.kind !== before.kind && of("record", "blocks") && (out.inner?.length ?? 0) === 0) out.inner = empty(v.kind);
  for (const k of Object.keys(out) as (keyof Field)[]) if (out[k] === undefined) delete out[k];
  return out;
}
