import type { Edit, Edited, ProblemBody } from "./types";

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

/** Told when the service says that nobody is signed in any more. */
export const signedOut = new EventTarget();

/** Asks for the password again, when the service wants it before a change; true when it was given. The shell sets it. */
export const proof: { ask: () => Promise<boolean> } = { ask: async () => false };

/** Calls the control endpoints. Who asks is told by a cookie that scripts cannot see. */
export async function call<T>(path: string, init?: { method?: string; body?: unknown; headers?: Record<string, string>; signal?: AbortSignal }): Promise<T> {
  const answer = await fetch("/control/v1" + path, {
    method: init?.method ?? "GET",
    headers: { ...(init?.body ? { "Content-Type": "application/json" } : {}), ...init?.headers },
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

/** Carries out edits, all or none. */
export const edit = (...edits: Edit[]) => call<Edited>("/edits", { method: "POST", body: { edits } });
