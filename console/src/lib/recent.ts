// The entries that were opened last in this browser, the newest first.

const keep = 8;
const keyOf = (environment: string) => "ubiquon.recent " + environment;

export type Recent = { id: string; title: string };

export function recent(environment: string): Recent[] {
  try {
    return JSON.parse(localStorage.getItem(keyOf(environment)) ?? "[]") as Recent[];
  } catch {
    return []; // what another version has kept
  }
}

export function noteRecent(environment: string, entry: Recent) {
  const all = [entry, ...recent(environment).filter((r) => r.id !== entry.id)].slice(0, keep);
  localStorage.setItem(keyOf(environment), JSON.stringify(all));
}
