// What may stand at a place of a fields parameter, a filter or an order, by the
// model in force.
import { autocompletion, type Completion, type CompletionContext, type CompletionResult } from "@codemirror/autocomplete";
import type { Extension } from "@codemirror/state";
import type { Field, Model, Type } from "../api";

const prose = ["html", "inline", "tree", "commonmark", "plain"];
const file = ["url", "alt", "width", "height", "mediaType", "bytes"];
const about = ["type", "locale", "filledIn", "revision", "firstPublished", "published", "updated", "path", "locales"];
const times: Record<string, string> = { published: "when it was last published", firstPublished: "when it was first published", updated: "when it was last saved" };

type Back = { name: string; type: Type; field: Field };

function backsOf(m: Model, t: Type): Back[] {
  return m.types.flatMap((type) => type.fields.filter((f) => f.inverse && f.types?.includes(t.name)).map((field) => ({ name: field.inverse!, type, field })));
}

const detail = (f: Field) => (f.several ? "list of " : "") + (f.kind === "reference" ? (f.types ?? []).join(" | ") : f.kind);
const says = (f: Field) => [f.label, f.help, f.deprecated && "Deprecated: " + f.deprecated, f.indexed && "Indexed.", f.options && "One of " + f.options.map((o) => o.value).join(", ") + "."].filter(Boolean).join(" — ");
const part = (label: string): Completion => ({ label, type: "property" });

function ofField(f: Field): Completion {
  const c: Completion = { label: f.name, type: "property", detail: detail(f) };
  const info = says(f);
  if (info) c.info = info;
  return c;
}

/** The types that the names before the cursor's bracket lead to, or what has parts there. */
function inside(m: Model, types: Type[], path: string[]): Completion[] {
  let at: Type[] = types;
  for (const [i, name] of path.entries()) {
    const last = i === path.length - 1;
    if (name === "about") return last ? about.map(part) : [];
    const back = at.flatMap((t) => backsOf(m, t)).find((b) => b.name === name);
    if (back) {
      at = [back.type];
      continue;
    }
    const f = at.flatMap((t) => t.fields).find((f) => f.name === name);
    switch (f?.kind) {
      case "reference":
        at = m.types.filter((t) => f.types?.includes(t.name));
        continue;
      case "prose":
        return prose.map(part);
      case "file":
        return file.map(part);
      case "choice":
        return [part("label")];
      case "location":
        return [part("type"), part("coordinates")];
      case "record":
        at = f.inner ?? [];
        continue;
      case "blocks":
        if (last) return (f.inner ?? []).map((t) => ({ label: t.name, type: "class", info: t.label }));
        at = (f.inner ?? []).filter((t) => t.name === path[i + 1]);
        path.splice(i + 1, 1);
        continue;
    }
    return [];
  }
  const seen = new Set<string>();
  const fields = at.flatMap((t) => t.fields).filter((f) => !seen.has(f.name) && seen.add(f.name));
  const own: Completion[] = at.some((t) => t.plural) ? [{ label: "about", type: "property", info: "What is said about the entry: its path, times, locales" }] : [];
  return [...fields.map(ofField), ...at.flatMap((t) => backsOf(m, t)).map((b) => ({ label: b.name, type: "property", detail: "list of " + b.type.name, info: `The ${b.type.plural} whose ${b.field.name} lead here` })), ...own];
}

function fieldsAt(m: Model, types: Type[], text: string): Completion[] {
  const path: string[] = [];
  let name = "";
  for (const c of text) {
    if (c === "(") path.push(name);
    else if (c === ")") path.pop();
    if (/[A-Za-z0-9-]/.test(c)) name += c;
    else name = "";
  }
  return inside(m, types, path);
}

const words: Completion[] = [
  ...["AND", "OR", "NOT", "IN", "BETWEEN", "LIKE", "IS NULL", "IS NOT NULL", "TRUE", "FALSE"].map((label) => ({ label, type: "keyword" })),
  { label: "now()", type: "function", info: "The present moment" },
  { label: "CASEI()", type: "function", apply: "CASEI(", info: "Text without regard to case" },
  { label: "ACCENTI()", type: "function", apply: "ACCENTI(", info: "Text without regard to accents" },
  { label: "DATE()", type: "function", apply: "DATE('", info: "A day: DATE('2026-11-23')" },
  { label: "TIMESTAMP()", type: "function", apply: "TIMESTAMP('", info: "A moment: TIMESTAMP('2026-11-23T08:00:00Z')" },
  ...["A_CONTAINS", "A_CONTAINEDBY", "A_OVERLAPS", "A_EQUALS"].map((label) => ({ label: label + "()", type: "function", apply: label + "(", info: `Lists: ${label}(tags, ('a', 'b'))` })),
];

function named(m: Model, types: Type[], path: string[]): Field | undefined {
  let at = types;
  for (const [i, name] of path.entries()) {
    const back = at.flatMap((t) => backsOf(m, t)).find((b) => b.name === name);
    const f = at.flatMap((t) => t.fields).find((f) => f.name === name);
    if (i === path.length - 1) return f;
    at = back ? [back.type] : m.types.filter((t) => f?.types?.includes(t.name));
  }
  return undefined;
}

function filterAt(m: Model, types: Type[], text: string): { from: number; options: Completion[] } | null {
  // In quotes: the values of the choice that stands before them.
  const open = /([A-Za-z][\w.]*)\s*\)?\s*(?:=|<>|IN\s*\((?:\s*'[^']*'\s*,)*|,\s*\()\s*'([^']*)$/i.exec(text);
  if (open) {
    const f = named(m, types, open[1]!.split("."));
    return f?.options ? { from: text.length - open[2]!.length, options: f.options.map((o) => ({ label: o.value, type: "enum", detail: o.label })) } : null;
  }
  if ((text.match(/'/g)?.length ?? 0) % 2) return null;
  const word = /[A-Za-z_][\w.]*$/.exec(text)?.[0] ?? "";
  const steps = word.split(".");
  const here = steps.pop()!;
  const options = steps.length
    ? inside(m, types, steps).filter((c) => c.label !== "about")
    : [...inside(m, types, []).filter((c) => c.label !== "about"), ...Object.entries(times).map(([label, info]) => ({ label, info, type: "property", detail: "datetime" })), { label: "id", type: "property" }, ...words];
  return { from: text.length - here.length, options };
}

function sortAt(types: Type[]): Completion[] {
  const sortable = types.flatMap((t) => t.fields).filter((f) => !f.several && !["prose", "reference", "file", "location", "json", "record", "blocks"].includes(f.kind));
  return [...sortable.map(ofField), ...Object.entries(times).map(([label, info]) => ({ label, info, type: "property" }))];
}

/** Completes one of the texts of a read of the types. */
export function completing(of: "fields" | "filter" | "sort", m: Model | undefined, types: Type[]): Extension {
  const source = (context: CompletionContext): CompletionResult | null => {
    if (!m) return null;
    const text = context.state.sliceDoc(0, context.pos);
    const word = /[A-Za-z0-9]*$/.exec(text)![0];
    if (!context.explicit && !word && !/[(,.']$/.test(text)) return null;
    if (of === "filter") return filterAt(m, types, text);
    const options = of === "fields" ? fieldsAt(m, types, text) : sortAt(types);
    return options.length ? { from: context.pos - word.length, options, validFor: /^[A-Za-z0-9]*$/ } : null;
  };
  return autocompletion({ ...offered, override: [source] });
}

/** How completions are offered everywhere. */
export const offered = { icons: false, interactionDelay: 0 };
