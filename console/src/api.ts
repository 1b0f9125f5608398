// The control endpoints, as the console uses them.

export type Trace = {
  published: string | null;
  accepted: string | null;
  stored: string | null;
  expired: string | null;
  called: string | null;
  built: string | null;
};

export type Cause = { sequence?: number; rule?: string; by?: string; entry?: string; type?: string; what?: string; event?: string };

export type Build = {
  id: string;
  site: string;
  number: number;
  state: "waiting" | "running" | "finished" | "failed";
  sequence: number;
  causes: Cause[] | null;
  firstRequest: string;
  called: string | null;
  started: string | null;
  finished: string | null;
  attempts: number;
  error?: string;
  notBefore?: string | null;
  /** Failed builds directly before this one. */
  failures?: number;
  counts?: Record<string, number>;
  log?: { at: string; what: string; next?: string }[];
};

export type EventTrace = {
  id: string;
  origin: string;
  messageId: string;
  received: string;
  state: "waiting" | "done" | "failed" | "refused";
  detail: string;
  decoded: { kind: string; originKind?: string; key?: string; at?: string } | null;
  entry?: string;
  title?: string;
  type?: string;
  sequence: number | null;
  attempts: number;
  trace: Trace;
  builds: Build[];
};

export type EventDetail = EventTrace & {
  body: string;
  contentType: string;
  rules: { sequence: number; rule: string; at: string; fired: boolean; detail: string }[] | null;
};

export type Site = {
  name: string;
  address: string;
  build?: { call: string; quiet: string; atMost: string };
  builds: Build[] | null;
};

export type CacheStats = {
  responses: number;
  bytes: number;
  limit: number;
  hits: number;
  misses: number;
  joined: number;
  stored: number;
  expired: number;
  evicted: number;
  applied: number;
};

export type Status = {
  environment: string;
  since: string;
  sequence: number;
  modelVersion: number;
  cache: CacheStats;
  requests: number;
  p50ms: number;
  p99ms: number;
  entries: Record<string, number>;
  origins: { name: string; entries: number; untaken: number; missing?: boolean; lastEvent: string | null; lastRefused: string | null; lastSuccess: string | null; error?: string; since?: string; nextTry?: string }[];
  /** What is wrong at the moment, and what mends it. */
  problems: { what: string; since?: string; mend?: string }[];
  sites: Site[];
  events: EventTrace[];
  freshness: { events: number; answerP50ms: number | null; answerP95ms: number | null; builtP50ms: number | null; builtP95ms: number | null };
};

export type State = "draft" | "in review" | "scheduled" | "published" | "revised" | "retired";
export const states: State[] = ["draft", "in review", "scheduled", "published", "revised", "retired"];

export type Entry = {
  id: string;
  type: string;
  origin: string;
  originKey?: string;
  title: string;
  state: State;
  revision: number;
  publishedRevision: number;
  firstPublished: string | null;
  published: string | null;
  updated: string;
  behind?: boolean;
  review?: "submitted" | "approved" | "returned";
  retired?: string;
  /** For each locale that it can be read in: translated, partly or filled in. */
  locales: Record<string, "translated" | "partly" | "filled in">;
  /** The locales that readers have it in. */
  live: string[] | null;
  next: string | null;
};

export type Fields = Record<string, unknown>;
export type Revision = { number: number; at: string; by: string; message?: string; fields?: Fields };
export type Review = { revision: number; at: string; by: string; what: string; remark?: string };
export type Referrer = { entry: string; type: string; title: string; field: string };
export type Difference = { field: string; locale?: string; before: unknown; after: unknown };

export type Schedule = {
  id: string;
  entry: string;
  title: string;
  type: string;
  action: "publish" | "unpublish";
  locales: string[] | null;
  revision: number;
  at: string;
  zone: string;
  by: string;
  state: "pending" | "done" | "failed" | "cancelled";
  finished: string | null;
  detail?: string;
  late?: boolean;
  nextTry?: string;
};

export type Change = {
  sequence: number;
  at: string;
  edition: string;
  what: string;
  fields: Record<string, string[]> | null;
  cause: { kind: string; name?: string; event?: string };
};

export type EntryDetail = Entry & {
  editAt?: string;
  newest: Fields;
  shown: Fields | null;
  revisions: Revision[];
  reviews: Review[] | null;
  schedules: Schedule[] | null;
  referredBy: Referrer[] | null;
  formerPaths: string[] | null;
  changes: Change[];
  events: EventTrace[];
};

export type Option = { value: string; label: string; labels?: Record<string, string> };
export type Field = {
  name: string;
  kind: string;
  label?: string;
  help?: string;
  was?: string;
  deprecated?: string;
  deprecatedSince?: string;
  sunset?: string;
  required?: boolean;
  unique?: boolean;
  indexed?: boolean;
  translated?: boolean;
  several?: boolean;
  min?: number;
  max?: number;
  pattern?: string;
  default?: unknown;
  options?: Option[];
  types?: string[];
  inverse?: string;
  madeFrom?: string;
  marks?: string[];
  schema?: unknown;
  inner?: Type[];
};
export type Type = {
  name: string;
  plural: string;
  label: string;
  help?: string;
  was?: string;
  deprecated?: string;
  deprecatedSince?: string;
  sunset?: string;
  path?: string;
  paths?: Record<string, string>;
  home?: string;
  title?: string;
  singleton?: boolean;
  approval?: boolean;
  fields: Field[];
  freshness?: Record<string, string>;
};
export type Locale = { tag: string; name?: string; fallback?: string[]; retired?: boolean };
export type Model = { locales: Locale[]; types: Type[] };

export const kinds = ["text", "prose", "slug", "integer", "decimal", "money", "boolean", "date", "datetime", "choice", "reference", "file", "location", "json", "record", "blocks"];

export type Consequence = {
  type?: string;
  field?: string;
  where: string;
  what: string;
  severity: "safe" | "breaks reads" | "needs a default" | "loses data";
  text: string;
  entries: number;
  readers: string[];
};
export type Plan = { version: number; consequences: Consequence[]; loses: boolean; conflicts: string[]; model: Model; yaml: string };
export type Coverage = { type: string; locale: string; translated: number; partly: number; filledIn: number; missing: number };

export type Edit = {
  id?: string;
  type?: string;
  save?: Fields;
  message?: string;
  do?: string;
  locales?: string[];
  revision?: number;
  remark?: string;
  evenIfReferred?: boolean;
  ifRevision?: number;
};
export type Edited = { sequence: number; changes: number; entries: { id: string; revision: number }[]; warnings?: { path: string; text: string }[] };

export const edit = (...edits: Edit[]) => call<Edited>("/edits", { method: "POST", body: { edits } });

export type Grant = { verb: string; edition: string; type: string; locales?: string[] };
export const grantText = (g: Grant) => `${g.verb} ${g.edition} ${g.type}${g.locales?.length ? " in " + g.locales.join(",") : ""}`;

export type Key = {
  id: string;
  name: string;
  grants: Grant[];
  site?: string;
  perMinute?: number;
  created: string;
  by: string;
  expires: string | null;
  revoked: string | null;
  formerUntil?: string;
  use: { requests: number; hits: number; used: string; address: string; agent: string } | null;
};
export type Sight = { type: string; edition: string; through: "" | "open" | "grant" | "both"; locales?: string[]; entries: number };
export type Refusal = { at: string; address: string; agent: string; request: string; edition: string; reader?: string; key?: string; grant?: string; detail: string };

export type Mend = { says: string; command: string; request?: { method: string; path: string; body: unknown }; page?: string; link?: string };
export type Reason = { code: string; text: string; mends: Mend[] };
export type WhyAnswer = {
  reader: string;
  edition: string;
  locale: string;
  entry: Entry | null;
  others?: { id: string; type: string; title: string }[];
  visible: boolean;
  reasons: Reason[];
  remarks: Reason[];
  since?: { sequence: number; at: string; what: string };
  cached?: { asked: string; sequence: number; bytes: number }[];
  pages?: { site: string; address: string; entry: string; title: string }[];
};

export type Account = { id: string; email: string; name: string; role: string; created: string; by: string; disabled: string | null; signedIn: string | null; hasPassword: boolean };
export const roles: Record<string, string> = {
  reader: "sees everything, changes nothing",
  editor: "writes, and submits for review",
  approver: "also approves, publishes and schedules",
  admin: "also sees to types, keys and accounts",
};
export type Act = { id: number; at: string; who: string; kind: string; address?: string; what: string; subject?: string; before?: unknown; after?: unknown };

/** Where somebody is signed in. */
export type Session = { id: string; address: string; agent: string; created: string; seen: string; expires: string };

/** A link that reads one entry in preview. */
export type PreviewLink = { id: string; entry: string; title: string; type: string; locale: string; waysBack: boolean; by: string; created: string; expires: string; revoked: string | null; used: string | null };

/** What a problem document may say besides its words. */
export type ProblemBody = {
  problems?: { entry: string; path: string; rule: string; text: string }[];
  conflict?: { entry: string; present: Revision; yours: Fields; differences: Difference[] | null };
  referredBy?: Referrer[];
  mistakes?: { file: string; line: number; column: number; text: string }[];
  consequences?: Consequence[];
};

/** A refusal, in the words of its problem document (RFC 9457). */
export class Problem extends Error {
  constructor(
    readonly status: number,
    readonly title: string,
    detail: string,
    readonly hint?: string,
    readonly body: ProblemBody = {},
  ) {
    super(detail);
  }
}

/** Who is signed in, and what the console may offer them. */
export type Who = { kind: string; name: string; environment: string; grants: string[]; may: { write: boolean; publish: boolean; administer: boolean } };

/** Told when the service says that nobody is signed in any more. */
export const signedOut = new EventTarget();

/** Asks for the password again, when the service wants it before a change; true when it was given. The shell sets it. */
export const proof: { ask: () => Promise<boolean> } = { ask: async () => false };

/** Calls the control endpoints. Who asks is told by a cookie that scripts cannot see. */
export async function call<T>(path: string, init?: { method?: string; body?: unknown; signal?: AbortSignal }): Promise<T> {
  const answer = await fetch("/control/v1" + path, {
    method: init?.method ?? "GET",
    headers: init?.body ? { "Content-Type": "application/json" } : {},
    body: init?.body ? JSON.stringify(init.body) : undefined,
    signal: init?.signal,
  }).catch(() => {
    throw new Problem(0, "No answer", "The service does not answer.", "Is it running?");
  });
  if (!answer.ok) {
    const p = await answer.json().catch(() => ({}));
    if (answer.status === 401 && path !== "/session" && p.type !== "/problems/sign-in") signedOut.dispatchEvent(new Event("out"));
    if (p.type === "/problems/proof" && (await proof.ask())) return call<T>(path, init);
    throw new Problem(answer.status, p.title ?? "Failed", p.detail ?? `The service answered ${answer.status}.`, p.hint, p);
  }
  const at = answer.headers.get("Location");
  if (answer.status === 202 && at?.startsWith("/control/v1/writes/")) return settled<T>(at.slice("/control/v1".length), init?.signal);
  return answer.json() as Promise<T>;
}

/** Waits for the outcome of a write that goes on though its request is answered. */
async function settled<T>(path: string, signal?: AbortSignal): Promise<T> {
  for (;;) {
    await new Promise((resume) => setTimeout(resume, 1000));
    const said = await call<{ state: string; status?: number; answer?: T & ProblemBody & { title?: string; detail?: string; hint?: string }; detail?: string }>(path, { signal });
    if (said.state === "running") continue;
    const p = said.answer;
    if (said.state === "lost") throw new Problem(0, "Not known", said.detail ?? "");
    if (said.state === "failed") throw new Problem(said.status ?? 500, p?.title ?? "Failed", p?.detail ?? `The service answered ${said.status}.`, p?.hint, p);
    return (p ?? {}) as T;
  }
}

/** Posts, and hands over the answer line by line while long work goes on. */
export async function stream<T>(path: string, body: unknown, each: (line: T) => void) {
  const answer = await fetch("/control/v1" + path, {
    method: "POST",
    headers: { "Content-Type": "application/json" },
    body: JSON.stringify(body),
  });
  if (!answer.ok || !answer.body) {
    const p = await answer.json().catch(() => ({}));
    throw new Problem(answer.status, p.title ?? "Failed", p.detail ?? `The service answered ${answer.status}.`, p.hint, p);
  }
  const reader = answer.body.pipeThrough(new TextDecoderStream()).getReader();
  let rest = "";
  for (;;) {
    const { done, value } = await reader.read();
    const lines = (rest + (value ?? "")).split("\n");
    rest = done ? "" : (lines.pop() ?? "");
    for (const line of lines) {
      if (!line) continue;
      const said = JSON.parse(line);
      if (said.problem) throw new Problem(500, "Failed", said.problem.detail);
      each(said as T);
    }
    if (done) return;
  }
}

/** Calls heard with every word of news that the service tells, until aborted. */
export async function listen(heard: (what: string) => void, connected: (yes: boolean) => void, signal: AbortSignal) {
  while (!signal.aborted) {
    try {
      const answer = await fetch("/control/v1/news", { signal });
      if (answer.ok && answer.body) {
        connected(true);
        heard("connected");
        const reader = answer.body.pipeThrough(new TextDecoderStream()).getReader();
        let rest = "";
        for (;;) {
          const { done, value } = await reader.read();
          if (done) break;
          const lines = (rest + value).split("\n");
          rest = lines.pop() ?? "";
          for (const line of lines) if (line.startsWith("data: ")) heard(line.slice(6));
        }
      }
    } catch {
      // Told below, and tried again.
    }
    connected(false);
    await new Promise((resume) => setTimeout(resume, 2000));
  }
}
