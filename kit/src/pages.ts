import { ReadError, type ProblemDocument } from "./reader.gen.ts";
import { setting } from "./settings.ts";

/** The element that says which state a page shows, for its head: reader.sequence after its reads. */
export function pageMark(sequence: number): string {
  return `<meta name="ubiquon-sequence" content="${Math.trunc(sequence)}">`;
}

/** A page, and what it is made of: requests below the edition, and entries by id. */
export interface ManifestPage {
  page: string;
  reads?: string[];
  entries?: string[];
}

/** Says what the pages of a build are made of, for builders that fetch once and render many. */
export async function writeManifest(o: { address?: string; key?: string; build: string; fetch?: typeof globalThis.fetch }, pages: Iterable<ManifestPage>): Promise<void> {
  const address = o.address ?? setting("UBIQUON_CONTENT");
  const key = o.key ?? setting("UBIQUON_KEY");
  if (!address) throw new TypeError("no address: set UBIQUON_CONTENT");
  let body = "";
  for (const page of pages) body += JSON.stringify(page) + "\n";
  const answer = await (o.fetch ?? fetch)(`${address.replace(/\/$/, "")}/pages?build=${encodeURIComponent(o.build)}`, {
    method: "POST",
    headers: { "Content-Type": "application/x-ndjson", ...(key ? { Authorization: "Bearer " + key } : {}) },
    body,
  });
  if (!answer.ok) throw new ReadError((await answer.json()) as ProblemDocument);
}
