import { Problem, signedOut } from "./client";

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
      if (answer.status === 401) signedOut.dispatchEvent(new Event("out"));
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
