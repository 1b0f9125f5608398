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

/** Reads one edition. Its base address and key come from UBIQUON_ADDRESS and UBIQUON_KEY unless given. */
export class Reader {
  private readonly address: string;
  private readonly key: string | undefined;
  private readonly fetch: typeof globalThis.fetch;

  constructor(o: { address?: string; key?: string; fetch?: typeof globalThis.fetch } = {}) {
    const address = o.address ?? environment("UBIQUON_ADDRESS");
    if (!address) throw new TypeError("no address: set UBIQUON_ADDRESS, as in https://gateway.example/content/main/published");
    this.address = address.replace(/\/$/, "");
    this.key = o.key ?? environment("UBIQUON_KEY");
    this.fetch = o.fetch ?? ((input, init) => globalThis.fetch(input, init));
  }

  /** A list, such as notices. */
  list<N extends keyof Shapes>(plural: keyof Plurals, o: ListOptions<undefined> & { shape: N }): Promise<List<Shapes[N]>>;
  list<P extends keyof Plurals, const S extends Selection<Plurals[P]>>(plural: P, o: ListOptions<S> & { fields: S }): Promise<List<Picked<Plurals[P], S>>>;
  list<P extends keyof Plurals>(plural: P, o?: ListOptions<undefined>): Promise<List<Default<Plurals[P]>>>;
  async list(plural: string, o: ListOptions<readonly Node[] | undefined> = {}): Promise<unknown> {
    return this.read("/" + plural, o);
  }

  /** One entry by its slug; null if there is none. */
  one<N extends keyof Shapes>(plural: keyof Plurals, slug: string, o: Options<undefined> & { shape: N }): Promise<Shapes[N] | null>;
  one<P extends keyof Plurals, const S extends Selection<Plurals[P]>>(plural: P, slug: string, o: Options<S> & { fields: S }): Promise<Picked<Plurals[P], S> | null>;
  one<P extends keyof Plurals>(plural: P, slug: string, o?: Options<undefined>): Promise<Default<Plurals[P]> | null>;
  async one(plural: string, slug: string, o: Options<readonly Node[] | undefined> = {}): Promise<unknown> {
    return this.read(`/${plural}/${encodeURIComponent(slug)}`, o).catch(orNull);
  }

  /** The entries of a list, one after the other, window after window. */
  all<N extends keyof Shapes>(plural: keyof Plurals, o: ListOptions<undefined> & { shape: N }): AsyncGenerator<Shapes[N], void>;
  all<P extends keyof Plurals, const S extends Selection<Plurals[P]>>(plural: P, o: ListOptions<S> & { fields: S }): AsyncGenerator<Picked<Plurals[P], S>, void>;
  all<P extends keyof Plurals>(plural: P, o?: ListOptions<undefined>): AsyncGenerator<Default<Plurals[P]>, void>;
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
  async *paths(o: { type?: keyof Types & string; locale?: Locale; fetch?: RequestInit } = {}): AsyncGenerator<SitePath, void> {
    for (let after: string | null | undefined; after !== null; ) {
      const list = (await this.read("/paths", { ...o, limit: 200, ...(after === undefined ? {} : { after }) } as ListOptions<undefined>)) as List<SitePath>;
      yield* list.items;
      after = list.window.next;
    }
  }

  /** A GraphQL operation; throws if it has errors. */
  async graphql<D = unknown>(query: string, variables?: Record<string, unknown>, o: { fetch?: RequestInit } = {}): Promise<D> {
    const answer = await this.fetch(this.address + "/graphql", {
      ...o.fetch,
      method: "POST",
      headers: { ...this.headers(o.fetch), "Content-Type": "application/json" },
      body: JSON.stringify({ query, variables }),
    });
    const body = (await answer.json()) as { data?: D; errors?: { message: string }[] } & ProblemDocument;
    if (body.errors?.length) throw new Error(body.errors.map((e) => e.message).join("; "));
    if (!answer.ok) throw new ReadError(body);
    return body.data as D;
  }

  private headers(init?: RequestInit): Record<string, string> {
    return { ...Object.fromEntries(new Headers(init?.headers)), ...(this.key ? { Authorization: "Bearer " + this.key } : {}) };
  }

  /** The only entry of a type. */
  single<N extends keyof Singletons, const S extends Selection<Singletons[N]>>(name: N, o: Options<S> & { fields: S }): Promise<Picked<Singletons[N], S> | null>;
  single<N extends keyof Singletons>(name: N, o?: Options<undefined>): Promise<Default<Singletons[N]> | null>;
  async single(name: string, o: Options<readonly Node[] | undefined> = {}): Promise<unknown> {
    return this.read("/" + name, o).catch(orNull);
  }

  private async read(path: string, o: ListOptions<readonly Node[] | undefined>): Promise<unknown> {
    const query = new URLSearchParams();
    for (const [name, value] of Object.entries(o)) {
      if (value === undefined || ["signal", "fetch", "minSequence", "onHeaders"].includes(name)) continue;
      query.set(name, name === "fields" ? spell(value as readonly Node[]) : Array.isArray(value) ? value.join(",") : String(value));
    }
    const answer = await this.fetch(`${this.address}${path}${query.size ? "?" + query : ""}`, {
      ...o.fetch,
      headers: { ...this.headers(o.fetch), ...(o.minSequence ? { "Ubiquon-Min-Sequence": String(o.minSequence) } : {}) },
      ...(o.signal ? { signal: o.signal } : {}),
    });
    o.onHeaders?.(answer.headers);
    const body: unknown = await answer.json();
    if (!answer.ok) throw new ReadError(body as ProblemDocument);
    return body;
  }
}

function orNull(e: unknown): null {
  if (e instanceof ReadError && e.status === 404) return null;
  throw e;
}
