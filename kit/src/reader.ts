import { Reader, type AnyModel, type Model, type ReaderOptions } from "./reader.gen.ts";
import { setting } from "./settings.ts";

export interface KitOptions extends Omit<ReaderOptions, "init"> {
  /** published (the default) or preview. It takes the place of the edition that address names. */
  edition?: "published" | "preview";
  /** Of the content, where address is that of the gateway alone; main unless given. */
  environment?: string;
  /** How fetch is to cache, as in "no-store" or "force-cache". */
  cache?: RequestCache;
  /** Tags every request with tagOf(request), for frameworks whose fetch takes next: { tags }. */
  tags?: boolean;
}

/** The longest tag that frameworks take. */
const longestTag = 256;

/** The tag of a request, /dispatches?limit=5 say: the request itself, shortened if it is long. */
export function tagOf(request: string): string {
  if (request.length <= longestTag) return request;
  let hash = 0xcbf29ce484222325n; // FNV-1a, 64 bits: a name, no secret
  for (const byte of new TextEncoder().encode(request)) hash = ((hash ^ BigInt(byte)) * 0x100000001b3n) & 0xffffffffffffffffn;
  return request.slice(0, longestTag - 17) + "#" + hash.toString(16).padStart(16, "0");
}

function contentAddress(o: KitOptions): string | undefined {
  const given = o.address ?? setting("UBIQUON_CONTENT") ?? setting("UBIQUON_ADDRESS");
  if (!given) return undefined;
  const address = new URL(given);
  const parts = /^(.*)\/content\/([^/]+)(?:\/([^/]+))?\/?$/.exec(address.pathname);
  const base = parts ? parts[1] : address.pathname.replace(/\/$/, "");
  address.pathname = `${base}/content/${o.environment ?? parts?.[2] ?? "main"}/${o.edition ?? parts?.[3] ?? "published"}`;
  return address.toString();
}

/**
 * A reader of one edition. With the types of ubiquon generate ts: createReader<Model>(). Requests that the gateway
 * puts off (503, 429) are made again up to three times; other problems are thrown as ReadError.
 */
export function createReader<M extends AnyModel = Model>(o: KitOptions = {}): Reader<M> {
  const { edition, environment, cache, tags, ...rest } = o;
  const address = contentAddress(o);
  return new Reader<M>({
    ...rest,
    ...(address ? { address } : {}),
    init: (request) => ({ ...(cache ? { cache } : {}), ...(tags ? { next: { tags: [tagOf(request)] } } : {}) }) as RequestInit,
  });
}
