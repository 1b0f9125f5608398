// What is asked of the service is known to the page by keys, and the service's news say which of
// them have changed. Each key begins with the environment.

import type { Query, QueryClient } from "@tanstack/react-query";

let environment = "";

/** Says whose content is shown. The session calls it once, before anything is asked. */
export function setEnvironment(name: string) {
  environment = name;
}

// What news are about. What nobody has on the screen is fetched when it is opened.
const shown = {
  changes: ["status", "entry", "entries", "events", "event", "cache", "held", "coverage", "linked-drafts", "pick", "downstream", "nodes", "differences", "audit", "reviews", "files", "file"],
  model: ["model", "schema.graphql", "audit", "vocabulary"],
  builds: ["status", "sites", "events", "event"],
  pages: ["pages", "sites", "status", "events", "event"],
  runs: ["rules", "rule-runs", "notifications", "sites"],
  sites: ["sites", "rules"],
  settings: ["rules", "rule", "sites", "record", "records-of", "secrets", "origins", "captured", "untaken", "downstream", "audit", "status"],
  schedules: ["status", "entry", "entries", "audit"],
  origins: ["status", "origins", "untaken"],
  events: ["status", "events", "event", "entry", "captured"],
  access: ["keys", "told", "accounts", "previews", "sessions", "audit"],
  refusals: ["refusals"],
  // Told every few seconds: what is counted, and announced by nobody.
  figures: ["status", "cache", "held", "history", "nodes", "downstream"],
} as const;

// What is asked with a POST is asked by people alone.
const posted = ["why", "preview", "suppose", "plan", "as-file", "sights", "prose", "shaped"] as const;

// What changes with time alone.
const timed = ["history", "saved-reads", "views", "records"] as const;

/** What can be asked. */
export type Subject = (typeof shown)[keyof typeof shown][number] | (typeof posted)[number] | (typeof timed)[number];

/** The key of a query: what it asks, and with what. */
export const key = (subject: Subject, ...rest: unknown[]) => [environment, subject, ...rest];

const subject = (q: Query) => q.queryKey[1] as Subject;

/** Fetches again what the words of news are about; "connected" and "everything" are about all of it. */
export function refresh(queries: QueryClient, words: Set<string>) {
  const all = words.has("connected") || words.has("everything");
  const about = new Set([...words].flatMap((word) => shown[word as keyof typeof shown] ?? []));
  void queries.invalidateQueries({ predicate: (q) => (all || about.has(subject(q) as never)) && !posted.includes(subject(q) as never) });
}

/** Fetches again whatever is shown, after something was done here. */
export const refreshAll = (queries: QueryClient) => queries.invalidateQueries();
