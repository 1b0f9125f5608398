import { ownTypes, type Field, type Model, type Type } from "../../api";

function fieldsFile(fields: Field[]): Record<string, unknown> {
  return Object.fromEntries(
    fields.map((f) => {
      const { name, options, inner, renditions, ...rest } = f;
      const out: Record<string, unknown> = { ...rest };
      if (options) out.options = Object.fromEntries(options.map((o) => [o.value, o.labels && Object.keys(o.labels).length ? o.labels : o.label]));
      if (renditions) out.renditions = Object.fromEntries(renditions.map(({ name, ...one }) => [name, one]));
      if (inner && f.kind === "record") out.fields = fieldsFile(inner[0]?.fields ?? []);
      if (inner && f.kind === "blocks") out.blocks = Object.fromEntries(inner.map((t) => [t.name, { label: t.label, help: t.help, fields: fieldsFile(t.fields) }]));
      return [name, out];
    }),
  );
}

function typeFile(t: Type): unknown {
  const { name: _name, path, paths, fields, plural, ...rest } = t;
  return { ...rest, ...(t.singleton ? {} : { plural }), path: paths && Object.keys(paths).length ? paths : path, fields: fieldsFile(fields) };
}

/** The model as a file of its own; JSON is YAML too. */
export function toFile(m: Model): string {
  return JSON.stringify({
    locales: Object.fromEntries(m.locales.map(({ tag, ...rest }) => [tag, rest])),
    types: Object.fromEntries(ownTypes(m).map((t) => [t.name, typeFile(t)])),
    shapes: Object.fromEntries((m.shapes ?? []).map((s) => [s.name, { help: s.help, of: s.of, fields: Object.fromEntries(s.fields.map((f) => [f.name, f.by ?? f.each])) }])),
  });
}
