export interface About {
  type: string;
  locale: Locale;
  /** Fields whose value comes from a fallback locale. */
  filledIn: string[];
  revision: number;
  firstPublished: string | null;
  published: string | null;
  updated: string;
  path: string | null;
  locales: Locale[];
  /** What was left out because the reader may not enter it. */
  hidden?: string[];
}

export interface ProseNode {
  type: string;
  text?: string;
  children?: ProseNode[];
  [more: string]: unknown;
}

export interface Prose {
  html: string;
  inline: string;
  tree: ProseNode;
  commonmark: string;
  plain: string;
}

export interface File {
  url: string;
  alt: string | null;
  width: number | null;
  height: number | null;
  mediaType: string | null;
  bytes: number | null;
}

/** Amount in minor units; currency by ISO 4217. */
export interface Money {
  amount: number;
  currency: string;
}

/** A GeoJSON Point: longitude, then latitude. */
export interface Point {
  type: "Point";
  coordinates: [number, number];
}

/** A linked entry that nothing more was asked of. */
export interface Linked {
  id: string;
  about?: { type: string };
  slug?: string;
}

type Target<V> = NonNullable<V> extends readonly (infer E)[] ? NonNullable<E> : NonNullable<V>;
type IsEntry<V> = Target<V> extends { readonly "#type"?: string; id: string } ? true : false;
type Opens<V> = IsEntry<V> extends true ? true : Target<V> extends Prose | File | About ? true : false;
type Names<T> = T extends unknown ? Exclude<keyof T & string, "#type" | "#backs"> : never;
type Nested<T> = { [K in Names<T>]: T extends unknown ? (K extends keyof T ? (Opens<T[K]> extends true ? K : never) : never) : never }[Names<T>];
type At<T, K> = T extends unknown ? (K extends keyof T ? T[K] : never) : never;

/** What is asked of entries: names, and { name: what is asked of those it leads to }. */
export type Selection<T> = readonly (Names<T> | { readonly [K in Nested<T>]?: Selection<Target<At<T, K>>> })[];

type Rewrap<V, P> = NonNullable<V> extends readonly unknown[] ? P[] : P | Extract<V, null>;
type Delivered<V> = IsEntry<V> extends true ? Rewrap<V, Linked> : Target<V> extends Prose ? Rewrap<V, Pick<Prose, "html">> : V;
type Item<T, I> = I extends string
  ? { [K in I]: Delivered<At<T, K>> }
  : I extends object
    ? { [K in keyof I & string]: Rewrap<At<T, K>, Picked<Target<At<T, K>>, I[K]>> }
    : never;
type Join<U> = (U extends unknown ? (u: U) => void : never) extends (i: infer I) => void ? I : never;
type Flat<T> = { [K in keyof T]: T[K] };

/** An entry with what was asked of it, and nothing else. */
export type Picked<T, S> = Flat<(IsEntry<T> extends true ? { id: string } : unknown) & Join<S extends readonly (infer I)[] ? (I extends unknown ? Item<T, I> : never) : never>>;

/** An entry as it comes when nothing in particular is asked of it. */
type Backs<T> = T extends { readonly "#backs"?: infer B } ? NonNullable<B> : never;
export type Default<T> = { [K in keyof T as K extends "#type" | "#backs" | Backs<T> ? never : K]: Delivered<T[K]> };

export interface List<T> {
  items: T[];
  window: { limit: number; next: string | null; prev: string | null; total?: number };
}

/** An entry as it is found by its path: its own fields depend on its type. */
export type AtPath = { id: string; about?: Partial<About>; [field: string]: unknown };

/** A path of the site, and the entry that lives there. */
export interface SitePath {
  entry: string;
  type: string;
  locale: Locale;
  path: string;
  updated: string;
}

export interface PathsOptions<M extends AnyModel> {
  type?: keyof M["types"] & string;
  locale?: M["locale"];
  fetch?: RequestInit;
}

export interface Options<S> {
  fields?: S;
  locale?: Locale;
  signal?: AbortSignal;
  /** Handed to fetch as it is: cache, next, headers and the like. */
  fetch?: RequestInit;
  /** Answer with changes up to here, or later. */
  minSequence?: number;
  /** Called with the headers of the answer. */
  onHeaders?: (headers: Headers) => void;
}

export interface ListOptions<S> extends Options<S> {
  /** CQL2 text. */
  filter?: string;
  /** Names, each with a minus before it for descending. */
  sort?: readonly string[];
  limit?: number;
  offset?: number;
  after?: string;
  before?: string;
  count?: boolean;
  translated?: "fallback" | "only";
}

/** RFC 9457. */
export interface ProblemDocument {
  type: string;
  title: string;
  status: number;
  detail: string;
  parameter?: string;
  hint?: string;
  grant?: string;
}

/** A read that was refused, in the words of its problem document. */
export class ReadError extends Error {
  readonly problem: ProblemDocument;
  constructor(problem: ProblemDocument) {
    super(problem.detail + (problem.hint ? "; " + problem.hint : ""));
    this.name = "ReadError";
    this.problem = problem;
  }
  get status(): number {
    return this.problem.status;
  }
}

type Node = string | { readonly [name: string]: readonly Node[] | undefined };

function spell(selection: readonly Node[]): string {
  return selection
    .flatMap((one) => (typeof one === "string" ? [one] : Object.entries(one).map(([name, inner]) => (inner ? `${name}(${spell(inner)})` : name))))
    .join(",");
}

const environment = (name: string): string | undefined => (globalThis as { process?: { env?: Record<string, string | undefined> } }).process?.env?.[name];

/** The types of a model, as they are generated from it. */
export interface AnyModel {
  plurals: object;
  singletons: object;
  types: object;
  shapes: object;
  locale: string;
}

export interface ReaderOptions {
  /** Of the edition, as in https://gateway.example/content/main/published; else UBIQUON_CONTENT or UBIQUON_ADDRESS. */
  address?: string;
  /** Else UBIQUON_KEY. */
  key?: string;
  fetch?: typeof globalThis.fetch;
  /** The page of the site that the answers are for: its path, "" for what every page needs. */
  page?: string;
  /** The build that the page is rendered by, as the call names it. */
  build?: string;
  /** The render of a page that is rendered on demand, a name of your own; made up unless given. */
  render?: string;
  /** Answer with changes up to here, or later. */
  minSequence?: number;
  /** Handed to fetch with every request, and told what is asked for, as in (request) => ({ next: { tags: [request] } }). */
  init?: (request: string) => RequestInit;
}

/** How often a request is tried again when the gateway is busy, and how long is waited at most, in milliseconds. */
const tries = 3;
const longestWait = 10_000;

/** Reads one edition. It is safe to use for many requests at the same time. */
export class Reader<M extends AnyModel = Model> {
  private readonly address: string;
  private readonly key: string | undefined;
  private readonly fetch: typeof globalThis.fetch;
  private readonly o: ReaderOptions;
  /** The newest state that any answer had so far: the sequence of the latest change. */
  sequence = 0;

  constructor(o: ReaderOptions = {}) {
    const address = o.address ?? environment("UBIQUON_CONTENT") ?? environment("UBIQUON_ADDRESS");
    if (!address) throw new TypeError("no address: set UBIQUON_CONTENT, as in https://gateway.example/content/main/published");
    this.address = address.replace(/\/$/, "");
    this.key = o.key ?? environment("UBIQUON_KEY");
    this.fetch = o.fetch ?? ((input, init) => globalThis.fetch(input, init));
    this.o = { ...o, ...(o.page !== undefined && !o.build && !o.render ? { render: crypto.randomUUID() } : {}) };
  }

  /** A reader for one page of the site: what it asks for is noted as what the page is made of. */
  page(path: string, by: { build?: string; render?: string } = {}): Reader<M> {
    return new Reader<M>({ ...this.o, build: undefined, render: undefined, ...by, page: path });
  }

  /** A list, such as notices. */
  list<N extends keyof M["shapes"] & string>(plural: keyof M["plurals"] & string, o: ListOptions<undefined> & { shape: N }): Promise<List<M["shapes"][N]>>;
  list<P extends keyof M["plurals"] & string, const S extends Selection<M["plurals"][P]>>(plural: P, o: ListOptions<S> & { fields: S }): Promise<List<Picked<M["plurals"][P], S>>>;
  list<P extends keyof M["plurals"] & string>(plural: P, o?: ListOptions<undefined>): Promise<List<Default<M["plurals"][P]>>>;
  async list(plural: string, o: ListOptions<readonly Node[] | undefined> = {}): Promise<unknown> {
    return this.read("/" + plural, o);
  }

  /** One entry by its slug; null if there is none. */
  one<N extends keyof M["shapes"] & string>(plural: keyof M["plurals"] & string, slug: string, o: Options<undefined> & { shape: N }): Promise<M["shapes"][N] | null>;
  one<P extends keyof M["plurals"] & string, const S extends Selection<M["plurals"][P]>>(plural: P, slug: string, o: Options<S> & { fields: S }): Promise<Picked<M["plurals"][P], S> | null>;
  one<P extends keyof M["plurals"] & string>(plural: P, slug: string, o?: Options<undefined>): Promise<Default<M["plurals"][P]> | null>;
  async one(plural: string, slug: string, o: Options<readonly Node[] | undefined> = {}): Promise<unknown> {
    return this.read(`/${plural}/${encodeURIComponent(slug)}`, o).catch(orNull);
  }

  /** The entries of a list, one after the other, window after window. */
  all<N extends keyof M["shapes"] & string>(plural: keyof M["plurals"] & string, o: ListOptions<undefined> & { shape: N }): AsyncGenerator<M["shapes"][N], void>;
  all<P extends keyof M["plurals"] & string, const S extends Selection<M["plurals"][P]>>(plural: P, o: ListOptions<S> & { fields: S }): AsyncGenerator<Picked<M["plurals"][P], S>, void>;
  all<P extends keyof M["plurals"] & string>(plural: P, o?: ListOptions<undefined>): AsyncGenerator<Default<M["plurals"][P]>, void>;
  async *all(plural: string, o: ListOptions<readonly Node[] | undefined> = {}): AsyncGenerator<unknown, void> {
    for (let after: string | null | undefined = o.after; after !== null; ) {
      const list = (await this.read("/" + plural, after === undefined ? o : { ...o, offset: undefined, after })) as List<unknown>;
      yield* list.items;
      after = list.window.next;
    }
  }

  /** The entry that lives at a path of the site; null if none does. Ask for what its types have in common, or for nothing in particular. */
  async at(path: string, o: Options<readonly (string | object)[]> = {}): Promise<AtPath | null> {
    return (await this.read("/at", { ...o, path } as ListOptions<readonly Node[]>).catch(orNull)) as AtPath | null;
  }

  /** Every path of the site, for builders. */
  paths<F extends keyof SitePath>(o: PathsOptions<M> & { fields: readonly F[] }): AsyncGenerator<Pick<SitePath, F>, void>;
  paths(o?: PathsOptions<M>): AsyncGenerator<SitePath, void>;
  async *paths(o: PathsOptions<M> & { fields?: readonly string[] } = {}): AsyncGenerator<unknown, void> {
    for (let after: string | null | undefined; after !== null; ) {
      const list = (await this.read("/paths", { ...o, limit: 200, ...(after === undefined ? {} : { after }) } as ListOptions<undefined>)) as List<SitePath>;
      yield* list.items;
      after = list.window.next;
    }
  }

  /** A GraphQL operation; throws if it has errors. */
  async graphql<D = unknown>(query: string, variables?: Record<string, unknown>, o: { fetch?: RequestInit } = {}): Promise<D> {
    const answer = await this.ask("/graphql", {
      ...o.fetch,
      method: "POST",
      headers: { ...Object.fromEntries(new Headers(o.fetch?.headers)), "Content-Type": "application/json" },
      body: JSON.stringify({ query, variables }),
    });
    const body = (await answer.json()) as { data?: D; errors?: { message: string }[] } & ProblemDocument;
    if (body.errors?.length) throw new Error(body.errors.map((e) => e.message).join("; "));
    if (!answer.ok) throw new ReadError(body);
    return body.data as D;
  }

  /** The only entry of a type. */
  single<N extends keyof M["singletons"] & string, const S extends Selection<M["singletons"][N]>>(name: N, o: Options<S> & { fields: S }): Promise<Picked<M["singletons"][N], S> | null>;
  single<N extends keyof M["singletons"] & string>(name: N, o?: Options<undefined>): Promise<Default<M["singletons"][N]> | null>;
  async single(name: string, o: Options<readonly Node[] | undefined> = {}): Promise<unknown> {
    return this.read("/" + name, o).catch(orNull);
  }

  private async read(path: string, o: ListOptions<readonly Node[] | undefined>): Promise<unknown> {
    const query = new URLSearchParams();
    for (const [name, value] of Object.entries(o)) {
      if (value === undefined || ["signal", "fetch", "minSequence", "onHeaders"].includes(name)) continue;
      query.set(name, name === "fields" ? spell(value as readonly Node[]) : Array.isArray(value) ? value.join(",") : String(value));
    }
    const answer = await this.ask(path + (query.size ? "?" + query : ""), { ...o.fetch, ...(o.signal ? { signal: o.signal } : {}) }, o.minSequence);
    o.onHeaders?.(answer.headers);
    const body: unknown = await answer.json();
    if (!answer.ok) throw new ReadError(body as ProblemDocument);
    return body;
  }

  /** Sends one request, and tries again for a while when the gateway is busy. */
  private async ask(request: string, given: RequestInit, minSequence = this.o.minSequence): Promise<Response> {
    const own = this.o.init?.(request) ?? {};
    const init: RequestInit = { ...own, ...given };
    const headers = new Headers(own.headers);
    new Headers(given.headers).forEach((value, name) => headers.set(name, value));
    if (this.key) headers.set("Authorization", "Bearer " + this.key);
    if (minSequence) headers.set("Ubiquon-Min-Sequence", String(minSequence));
    const by = this.o.build ? ["build", this.o.build] : ["render", this.o.render ?? ""];
    if (this.o.page !== undefined) headers.set("Ubiquon-Page", `${text(this.o.page)}; ${by[0]}=${text(by[1] ?? "")}`);
    for (let left = tries; ; left--) {
      const answer = await this.fetch(this.address + request, { ...init, headers });
      if ((answer.status !== 503 && answer.status !== 429) || left === 0) {
        this.sequence = Math.max(this.sequence, Number(answer.headers.get("Ubiquon-Sequence")) || 0);
        return answer;
      }
      const after = Number(answer.headers.get("Retry-After")) * 1000 || 200 * 2 ** (tries - left);
      await new Promise((done) => setTimeout(done, Math.min(after, longestWait)));
      init.signal?.throwIfAborted();
    }
  }
}

/** A string of a structured field (RFC 9651). */
function text(value: string): string {
  return '"' + value.replace(/[\\"]/g, "\\$&").replace(/[^ -~]/g, (c) => encodeURIComponent(c)) + '"';
}

function orNull(e: unknown): null {
  if (e instanceof ReadError && e.status === 404) return null;
  throw e;
}
