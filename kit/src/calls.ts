import { setting } from "./settings.ts";

/** What a call says: a CloudEvent for pages that are stale, an order for a build. */
export interface Call {
  id: string;
  /** The type of the event; "" for the order of a build. */
  type: string;
  data: unknown;
}

/** The order of a build. */
export interface BuildCall {
  build: string;
  number: number;
  site: string;
  /** The site must show changes up to here, or later. */
  sequence: number;
  /** Where to report. */
  report: string;
  /** What is to be rendered: paths, or "all". */
  pages: string[] | "all";
  /** Nothing is to be built: the call is a test. */
  test?: boolean;
}

export interface StalePage {
  path: string;
  since?: number;
  causes: { sequence?: number; what?: string; entry?: string }[];
  /** What the page showed is not there any more. */
  gone?: boolean;
}

export interface StalePages {
  site: string;
  sequence: number;
  pages: StalePage[];
  /** The requests that give something else now; tagOf makes the tags of them that a reader gives. */
  reads: string[];
  /** Every page may be stale. */
  all: boolean;
  test: boolean;
}

/** Why a call is not taken: answer it with 401, or 400 if it is no call at all. */
export class CallError extends Error {
  readonly status: 400 | 401;
  constructor(status: 400 | 401, why: string) {
    super(why);
    this.name = "CallError";
    this.status = status;
  }
}

/** How far the clock of the gateway may be off, in seconds. */
const tolerance = 300;

/**
 * Proves that a call comes from the gateway (Standard Webhooks) and returns what it says. The secret is the one of
 * the site (whsec_ and base64); several, parted by spaces, while it is changed. Throws a CallError.
 */
export async function verifyCall(request: Request, secret = setting("UBIQUON_SECRET") ?? ""): Promise<Call> {
  const body = new Uint8Array(await request.arrayBuffer());
  const refuse = (why: string): never => {
    throw new CallError(401, why);
  };
  if (!secret) throw new TypeError("no secret: set UBIQUON_SECRET");
  const id = request.headers.get("webhook-id") ?? refuse("the header webhook-id is missing");
  const stamp = request.headers.get("webhook-timestamp") ?? refuse("the header webhook-timestamp is missing");
  const signatures = request.headers.get("webhook-signature") ?? refuse("the header webhook-signature is missing");
  if (!(Math.abs(Date.now() / 1000 - Number(stamp)) <= tolerance)) refuse("the time of the call is more than five minutes off");
  const begin = new TextEncoder().encode(`${id}.${stamp}.`);
  const signed = new Uint8Array(begin.length + body.length);
  signed.set(begin);
  signed.set(body, begin.length);
  let proven = false;
  for (const one of secret.split(/\s+/)) {
    const key = await crypto.subtle.importKey("raw", bytes(one.replace(/^whsec_/, "")), { name: "HMAC", hash: "SHA-256" }, false, ["verify"]);
    for (const signature of signatures.split(" ")) {
      const [version, value] = signature.split(",", 2);
      if (version !== "v1" || !value) continue;
      let given: Uint8Array<ArrayBuffer>;
      try {
        given = bytes(value);
      } catch {
        continue;
      }
      proven = (await crypto.subtle.verify("HMAC", key, given, signed)) || proven; // in constant time
    }
  }
  if (!proven) refuse("the signature is not one of the site's secret");
  try {
    const said = JSON.parse(new TextDecoder("utf-8", { fatal: true }).decode(body)) as { type?: string; data?: unknown };
    return { id, type: said.type ?? "", data: said.type === undefined ? said : said.data };
  } catch {
    throw new CallError(400, "the body of the call is no JSON");
  }
}

function bytes(base64: string): Uint8Array<ArrayBuffer> {
  return Uint8Array.from(atob(base64), (c) => c.charCodeAt(0));
}

/** The pages that a call says are stale. Throws a CallError if it is another call. */
export function stalePages(call: Call): StalePages {
  if (!call.type.endsWith("pages-stale")) throw new CallError(400, `this is no call of the type pages-stale but ${call.type || "an order of a build"}`);
  const told = call.data as Partial<StalePages>;
  return { site: told.site ?? "", sequence: told.sequence ?? 0, pages: told.pages ?? [], reads: told.reads ?? [], all: told.all ?? false, test: told.test ?? false };
}

/** Reports how a build goes. Throws if the gateway does not take it. */
export async function report(build: BuildCall, state: "started" | "finished" | "failed", o: { key?: string; error?: string; link?: string; log?: string[] } = {}): Promise<void> {
  const key = o.key ?? setting("UBIQUON_KEY");
  const answer = await fetch(build.report, {
    method: "POST",
    headers: { "Content-Type": "application/json", ...(key ? { Authorization: "Bearer " + key } : {}) },
    body: JSON.stringify({ state, error: o.error, link: o.link, log: o.log }),
  });
  if (!answer.ok) throw new Error(`the report of build ${build.number} is answered with ${answer.status}: ${await answer.text()}`);
}
