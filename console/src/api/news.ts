// What the service tells of, and which queries show it. A query key begins with the name that
// stands here; what nobody has on the screen is fetched when it is opened.

import type { Query, QueryClient } from "@tanstack/react-query";

const shown: Record<string, string[]> = {
  changes: ["status", "entry", "entries", "events", "event", "cache", "held", "coverage", "linked-drafts", "pick", "downstream", "nodes", "differences", "audit"],
  model: ["model", "schema.graphql", "audit"],
  builds: ["status", "sites", "events", "event"],
  schedules: ["status", "entry", "entries", "audit"],
  origins: ["status"],
  events: ["status", "events", "event", "entry"],
  access: ["keys", "accounts", "previews", "sessions", "audit"],
  refusals: ["refusals"],
};

// What is asked with a POST is asked by people alone.
const posted = ["why", "suppose", "plan", "as-file", "sights"];

const name = (q: Query) => String(q.queryKey[0]);

/** Fetches again what the words of news are about; "connected" and "everything" are about all of it. */
export function refresh(queries: QueryClient, words: Set<string>) {
  const all = words.has("connected") || words.has("everything");
  const about = new Set([...words].flatMap((word) => shown[word] ?? []));
  void queries.invalidateQueries({ predicate: (q) => (all || about.has(name(q))) && !posted.includes(name(q)) });
}
