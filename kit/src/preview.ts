import { createReader, type KitOptions } from "./reader.ts";
import { ReadError } from "./reader.gen.ts";

const cookie = "ubiquon-preview";

export interface PreviewOptions extends Pick<KitOptions, "address" | "environment" | "fetch"> {
  /** How long the preview lasts, in seconds; an hour unless given. The link itself may end before. */
  seconds?: number;
  /** Called before the redirect: for frameworks that have a preview mode of their own. */
  enter?: (token: string) => void | Promise<void>;
}

/** A path of this site, and nothing that a browser takes for another. */
function ownPath(path: string | null): string {
  return path && /^\/(?![/\\])/.test(path) ? path : "/";
}

function redirect(path: string, setCookie: string): Response {
  return new Response(null, { status: 307, headers: { Location: path, "Set-Cookie": setCookie, "Cache-Control": "no-store" } });
}

/**
 * Handles what the site is called with for a preview, ?path=…&token=…: proves the token at the gateway, keeps it in
 * a cookie that scripts cannot read, and leads to the page.
 */
export function previewHandler(o: PreviewOptions = {}): (request: Request) => Promise<Response> {
  return async (request) => {
    const asked = new URL(request.url).searchParams;
    const token = asked.get("token") ?? "";
    const path = ownPath(asked.get("path"));
    if (!/^[\w.~-]+$/.test(token)) return new Response("There is no preview token in this address.\n", { status: 400 });
    const reader = createReader({ address: o.address, environment: o.environment, fetch: o.fetch, edition: "preview", key: token, cache: "no-store" });
    try {
      await reader.at(new URL(path, "http://site").pathname, { fields: ["id"] });
    } catch (e) {
      if (!(e instanceof ReadError)) throw e;
      return new Response(`This preview does not open: ${e.message}\n`, { status: e.status === 401 ? 401 : 403 });
    }
    await o.enter?.(token);
    return redirect(path, `${cookie}=${token}; Path=/; Max-Age=${o.seconds ?? 3600}; HttpOnly; Secure; SameSite=None; Partitioned`);
  };
}

/** Ends the preview, and leads to ?path=… as visitors see it. */
export function exitPreview(request: Request): Response {
  return redirect(ownPath(new URL(request.url).searchParams.get("path")), `${cookie}=; Path=/; Max-Age=0; HttpOnly; Secure; SameSite=None; Partitioned`);
}

/** The token of the preview that a request is part of, for createReader({ edition: "preview", key: token }). */
export function previewToken(request: { headers: Headers }): string | undefined {
  return new RegExp(`(?:^|;\\s*)${cookie}=([\\w.~-]+)`).exec(request.headers.get("cookie") ?? "")?.[1];
}

/**
 * In the browser: calls back, or reloads the page, whenever what the preview shows is saved. It goes on by itself
 * when the connection is lost; the function that it returns ends it.
 */
export function livePreview(o: { address: string; token: string; changed?: () => void }): () => void {
  const end = new AbortController();
  const changed = o.changed ?? (() => (globalThis as unknown as { location: { reload(): void } }).location.reload());
  void (async () => {
    for (let wait = 1000; !end.signal.aborted; wait = Math.min(2 * wait, 30_000)) {
      try {
        const stream = await fetch(o.address.replace(/\/(?:published|preview)?\/?$/, "/preview/changes"), {
          headers: { Accept: "text/event-stream", Authorization: "Bearer " + o.token },
          signal: end.signal,
        });
        if (stream.status === 401 || stream.status === 403) return; // the link has ended
        const lines = stream.body?.pipeThrough(new TextDecoderStream()).getReader();
        for (let rest = ""; lines && stream.ok; ) {
          const { done, value } = await lines.read();
          if (done) break;
          wait = 1000;
          const events = (rest + value).split("\n\n");
          rest = events.pop() ?? "";
          if (events.some((event) => /^data:/m.test(event))) changed();
        }
      } catch {
        // Lost: tried again below.
      }
      await new Promise((go) => setTimeout(go, wait));
    }
  })();
  return () => end.abort();
}
