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
  origins: { name: string; lastEvent: string | null; lastRefused: string | null }[];
  sites: Site[];
  events: EventTrace[];
  freshness: { events: number; answerP50ms: number | null; answerP95ms: number | null; builtP50ms: number | null; builtP95ms: number | null };
};

export type Entry = {
  id: string;
  type: string;
  origin: string;
  originKey?: string;
  title: string;
  state: "draft" | "published" | "revised";
  revision: number;
  publishedRevision: number;
  firstPublished: string | null;
  published: string | null;
  updated: string;
  locales: string[] | null;
};

export type Revision = { number: number; at: string; by: string; fields: Record<string, unknown> };

export type Change = {
  sequence: number;
  at: string;
  edition: string;
  what: string;
  fields: Record<string, string[]> | null;
  cause: { kind: string; name?: string; event?: string };
};

export type EntryDetail = Entry & { editAt?: string; revisions: Revision[]; changes: Change[]; events: EventTrace[] };

export type Field = { name: string; kind: string; label?: string; translated?: boolean; several?: boolean; types?: string[] };
export type Model = {
  locales: { tag: string; name?: string; fallback?: string[] }[];
  types: { name: string; plural: string; label: string; title?: string; fields: Field[] }[];
};

/** A refusal, in the words of its problem document (RFC 9457). */
export class Problem extends Error {
  constructor(
    readonly status: number,
    readonly title: string,
    detail: string,
    readonly hint?: string,
  ) {
    super(detail);
  }
}

const keyName = "ubiquon.key";
export const session = {
  key: () => sessionStorage.getItem(keyName),
  open: (key: string) => sessionStorage.setItem(keyName, key),
  close: () => sessionStorage.removeItem(keyName),
};

export async function call<T>(path: string, init?: { method?: string; body?: unknown; key?: string; signal?: AbortSignal }): Promise<T> {
  const answer = await fetch("/control/v1" + path, {
    method: init?.method ?? "GET",
    headers: { Authorization: "Bearer " + (init?.key ?? session.key() ?? ""), ...(init?.body ? { "Content-Type": "application/json" } : {}) },
    body: init?.body ? JSON.stringify(init.body) : undefined,
    signal: init?.signal,
  }).catch(() => {
    throw new Problem(0, "No answer", "The service does not answer.", "Is it running?");
  });
  if (!answer.ok) {
    const p = await answer.json().catch(() => ({}));
    throw new Problem(answer.status, p.title ?? "Failed", p.detail ?? `The service answered ${answer.status}.`, p.hint);
  }
  return answer.json() as Promise<T>;
}

/** Calls heard with every word of news that the service tells, until aborted. */
export async function listen(heard: (what: string) => void, connected: (yes: boolean) => void, signal: AbortSignal) {
  while (!signal.aborted) {
    try {
      const answer = await fetch("/control/v1/news", { headers: { Authorization: "Bearer " + (session.key() ?? "") }, signal });
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
