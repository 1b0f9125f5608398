import { createReader, pageMark, stalePages, tagOf, verifyCall } from "ubiquon-kit";

// Takes the call that tells which pages are stale.
export async function refresh(request: Request): Promise<Response> {
  const told = stalePages(await verifyCall(request));
  for (const read of told.reads) forget(tagOf(read)); // what your framework calls its revalidation by tag
  for (const page of told.pages) forget(page.path);
  return Response.json({});
}

// Reads for one page; what it reads is noted as what the page is made of.
export async function load(path: string) {
  const reader = createReader({ page: path, tags: true });
  const entry = await reader.at(path);
  return { entry, mark: pageMark(reader.sequence) }; // the mark belongs into the head of the page
}
