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

export interface Options<S> {
  fields?: S;
  locale?: Locale;
  signal?: AbortSignal;
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
  constructor(readonly problem: ProblemDocument) {
    super(problem.detail + (problem.hint ? "; " + problem.hint : ""));
    this.name = "ReadError";
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
  list<P extends keyof Plurals, const S extends Selection<Plurals[P]>>(plural: P, o: ListOptions<S> & { fields: S }): Promise<List<Picked<Plurals[P], S>>>;
  list<P extends keyof Plurals>(plural: P, o?: ListOptions<undefined>): Promise<List<Default<Plurals[P]>>>;
  async list(plural: string, o: ListOptions<readonly Node[] | undefined> = {}): Promise<unknown> {
    return this.read("/" + plural, o);
  }

  /** One entry by its slug; null if there is none. */
  one<P extends keyof Plurals, const S extends Selection<Plurals[P]>>(plural: P, slug: string, o: Options<S> & { fields: S }): Promise<Picked<Plurals[P], S> | null>;
  one<P extends keyof Plurals>(plural: P, slug: string, o?: Options<undefined>): Promise<Default<Plurals[P]> | null>;
  async one(plural: string, slug: string, o: Options<readonly Node[] | undefined> = {}): Promise<unknown> {
    return this.read(`/${plural}/${encodeURIComponent(slug)}`, o).catch(orNull);
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
      if (value === undefined || name === "signal") continue;
      query.set(name, name === "fields" ? spell(value as readonly Node[]) : Array.isArray(value) ? value.join(",") : String(value));
    }
    const answer = await this.fetch(`${this.address}${path}${query.size ? "?" + query : ""}`, {
      headers: this.key ? { Authorization: "Bearer " + this.key } : {},
      ...(o.signal ? { signal: o.signal } : {}),
    });
    const body: unknown = await answer.json();
    if (!answer.ok) throw new ReadError(body as ProblemDocument);
    return body;
  }
}

function orNull(e: unknown): null {
  if (e instanceof ReadError && e.status === 404) return null;
  throw e;
}
