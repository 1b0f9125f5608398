// A read as the explorer has it: in the address of the page, in the history, kept
// under a name, and as it is written elsewhere.

export type Read = {
  /** A REST read, from the plural on, as it stands in an address. */
  request?: string;
  /** A GraphQL one. */
  query?: string;
  variables?: Record<string, unknown>;
  edition?: string;
  /** Who reads: empty for oneself, everyone, or a key's id. */
  as?: string;
  language?: string;
};

export type Laps = { parse: number; cache: number; sql: number; render: number; all: number };

export type Dependencies = {
  edition: string;
  entries?: { id: string; locale: string; fields?: string[] }[];
  lookups?: { type?: string; locale: string; slug?: string; path?: string }[];
  lists?: { type: string; locale: string; field?: string; target?: string; filter?: string; paths?: boolean; count?: boolean; sort?: { by: string; descending?: boolean }[]; window: { rows: number; limit: number } }[];
};

export type Examined = {
  status: number;
  header: Record<string, string[]>;
  body: string;
  effort: { asked: number; limit: number };
  milliseconds: Laps;
  roundTrips: number;
  grants: string[] | null;
  sequence: number;
  held: number;
  key: string;
  statements: { sql: string; args: unknown[] | null; plan?: string }[] | null;
  dependencies: Dependencies | null;
  goodFor: number;
  /** What the entries that it depends on are called, by id. */
  titles: Record<string, string> | null;
};

export type SavedRead = { id: string; name: string; read: Read; saved: string; by: string };

const names = ["request", "query", "edition", "as", "language"] as const;

export function fromAddress(params: URLSearchParams): Read {
  const r: Read = {};
  for (const n of names) {
    const v = params.get(n);
    if (v) r[n] = v;
  }
  const variables = params.get("variables");
  if (variables) {
    try {
      r.variables = JSON.parse(variables);
    } catch {
      // An address that was cut: without them.
    }
  }
  return r;
}

export function toAddress(r: Read): Record<string, string> {
  const out: Record<string, string> = {};
  for (const n of names) if (r[n]) out[n] = r[n];
  if (r.variables && Object.keys(r.variables).length) out.variables = JSON.stringify(r.variables);
  return out;
}

/** The parts of a REST read, as they are edited. */
export type Parts = { what: string; one: string; fields: string; filter: string; sort: string; limit: string; more: [string, string][] };

export function partsOf(request: string): Parts {
  const [path = "", search = ""] = request.replace(/^\//, "").split(/\?(.*)/s);
  const p: Parts = { what: "", one: "", fields: "", filter: "", sort: "", limit: "", more: [] };
  const [what = "", ...rest] = path.split("/");
  p.what = what;
  p.one = decodeURIComponent(rest.join("/"));
  for (const [name, value] of new URLSearchParams(search)) {
    if (name === "fields" || name === "filter" || name === "sort" || name === "limit") p[name] = value;
    else if (name === "path" && what === "at") p.one = value;
    else p.more.push([name, value]);
  }
  return p;
}

// What may stand in a query as it is, and is easier to read so.
const readable = (s: string) => encodeURIComponent(s).replace(/%2C/g, ",").replace(/%3A/g, ":").replace(/%2F/g, "/").replace(/%5B/g, "[").replace(/%5D/g, "]").replace(/%3D/g, "=");

export function requestOf(p: Parts): string {
  const at = p.what === "at";
  const pairs: [string, string][] = [];
  if (at && p.one) pairs.push(["path", p.one]);
  const add = (name: string, value: string) => value && pairs.push([name, value]);
  add("fields", p.fields.replace(/\s/g, ""));
  add("filter", p.filter.trim());
  add("sort", p.sort.replace(/\s/g, ""));
  add("limit", p.limit.trim());
  const search = [...pairs, ...p.more].map(([n, v]) => n + "=" + readable(v)).join("&");
  return "/" + p.what + (p.one && !at ? "/" + encodeURIComponent(p.one) : "") + (search ? "?" + search : "");
}

const quote = (s: string) => "'" + s.replace(/'/g, `'\\''`) + "'";

/** The read as it is written in other places. */
export function written(r: Read, environment: string): { name: string; text: string }[] {
  const base = `${location.origin}/content/${environment}/${r.edition || "published"}`;
  const language = r.language ? [["Accept-Language", r.language]] : [];
  const out: { name: string; text: string }[] = [];
  if (r.query !== undefined) {
    const body = JSON.stringify({ query: r.query, ...(r.variables ? { variables: r.variables } : {}) });
    const headers = [["Content-Type", "application/json"], ...language];
    out.push({ name: "curl", text: `curl ${quote(base + "/graphql")} -H "Authorization: Bearer $UBIQUON_KEY"${headers.map(([n, v]) => ` -H ${quote(n + ": " + v)}`).join("")} -d ${quote(body)}` });
    out.push({
      name: "fetch",
      text: `const answer = await fetch(${JSON.stringify(base + "/graphql")}, {\n  method: "POST",\n  headers: { Authorization: "Bearer " + key, ${headers.map(([n, v]) => `"${n}": ${JSON.stringify(v)}`).join(", ")} },\n  body: JSON.stringify({\n    query: ${JSON.stringify(r.query)},\n    variables: ${JSON.stringify(r.variables ?? {})},\n  }),\n});\nconst { data, errors } = await answer.json();`,
    });
  } else {
    const address = base + (r.request ?? "");
    out.push({ name: "curl", text: `curl ${quote(address)} -H "Authorization: Bearer $UBIQUON_KEY"${language.map(([n, v]) => ` -H ${quote(n + ": " + v)}`).join("")}` });
    out.push({
      name: "fetch",
      text: `const answer = await fetch(${JSON.stringify(address)}, {\n  headers: { Authorization: "Bearer " + key${language.map(([n, v]) => `, "${n}": ${JSON.stringify(v)}`).join("")} },\n});\nconst content = await answer.json();`,
    });
    const typed = typedReader(r);
    if (typed) out.push({ name: "typed reader", text: typed });
  }
  const flags = [r.variables ? " --variables " + quote(JSON.stringify(r.variables)) : "", r.edition && r.edition !== "published" ? " --edition " + r.edition : "", r.language ? " --locale " + r.language : "", r.as ? " --as " + r.as : ""].join("");
  out.push({ name: "command", text: `ubiquon read ${quote(r.query ?? decoded(r.request ?? ""))}${flags}` });
  return out;
}

/** A request as people write it; the command line takes it so. */
export function decoded(request: string): string {
  try {
    const out = decodeURIComponent(request.replace(/%(25|26|23|2B)/g, "%25$1"));
    return out;
  } catch {
    return request;
  }
}

type Node = string | Record<string, unknown[]>;

/** The names of a fields parameter as the typed reader takes them; null where it cannot. */
function nodes(text: string): Node[] | null {
  let at = 0;
  const list = (): Node[] | null => {
    const out: Node[] = [];
    for (;;) {
      const name = /^[A-Za-z0-9-]+/.exec(text.slice(at))?.[0];
      if (!name || text[at + name.length] === "[") return null;
      at += name.length;
      if (text[at] === "(") {
        at++;
        const inner = list();
        if (!inner || text[at] !== ")") return null;
        at++;
        out.push({ [name]: inner });
      } else out.push(name);
      if (text[at] !== ",") return out;
      at++;
    }
  };
  const out = list();
  return out && at === text.length ? out : null;
}

function typedReader(r: Read): string | null {
  const p = partsOf(r.request ?? "");
  if (["at", "entries", "paths"].includes(p.what)) return null;
  const options: string[] = [];
  const fields = p.fields ? nodes(p.fields.replace(/\s/g, "")) : [];
  if (!fields) return null;
  if (fields.length) options.push("fields: " + JSON.stringify(fields).replace(/"([A-Za-z]\w*)":/g, "$1: "));
  if (p.filter) options.push("filter: " + JSON.stringify(p.filter));
  if (p.sort) options.push("sort: " + JSON.stringify(p.sort.split(",")));
  if (p.limit) options.push("limit: " + p.limit);
  for (const [n, v] of p.more) options.push(`${n}: ${n === "count" || n === "offset" ? v : JSON.stringify(v)}`);
  if (r.language && !p.more.some(([n]) => n === "locale")) options.push("locale: " + JSON.stringify(r.language));
  const o = options.length ? `, { ${options.join(", ")} }` : "";
  const call = p.one ? `one(${JSON.stringify(p.what)}, ${JSON.stringify(p.one)}${o})` : `list(${JSON.stringify(p.what)}${o})`;
  return `import { Reader } from "./content"; // ubiquon generate ts --to content.ts\n\nconst reader = new Reader();\nconst answer = await reader.${call};`;
}

/** What an answer was made of, a line each. */
export function madeOf(d: Dependencies | null): string[] {
  if (!d) return [];
  const out: string[] = [];
  for (const l of d.lists ?? []) {
    let what = l.paths ? "the paths of " + l.type : l.target ? `the ${l.type} whose ${l.field} lead to ${l.target}` : "the list of " + l.type;
    what += " in " + l.locale;
    if (l.filter) what += " where " + l.filter;
    if (l.sort?.length && !l.paths) what += ", by " + l.sort.map((s) => (s.descending ? "-" : "") + s.by).join(", ");
    what += `: ${l.window.rows} shown`;
    if (l.window.rows < l.window.limit) what += ", and whatever else comes to it";
    if (l.count) what += "; how many there are";
    out.push(what);
  }
  for (const l of d.lookups ?? []) out.push(`the search for ${l.path ? "whatever lives at " + l.path : `${l.type} with the slug ${l.slug}`} in ${l.locale}`);
  return out;
}

const historyKey = "ubiquon.reads";

/** The reads that were run in this browser, the last one first. */
export function earlier(): { read: Read; at: string }[] {
  try {
    return JSON.parse(localStorage.getItem(historyKey) ?? "[]");
  } catch {
    return [];
  }
}

export function remember(read: Read) {
  const same = JSON.stringify(read);
  const all = [{ read, at: new Date().toISOString() }, ...earlier().filter((e) => JSON.stringify(e.read) !== same)];
  localStorage.setItem(historyKey, JSON.stringify(all.slice(0, 40)));
}
