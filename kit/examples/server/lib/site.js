import { cookies, draftMode } from "next/headers";
import { createReader, previewToken } from "ubiquon-kit";

/** Reads for one page: what is published, kept until the gateway says that it is stale; or, in preview, drafts. */
export async function readerFor(page) {
  if (!(await draftMode()).isEnabled) return createReader({ page, tags: true, cache: "force-cache" });
  const request = { headers: new Headers({ cookie: (await cookies()).toString() }) };
  return createReader({ edition: "preview", key: previewToken(request), cache: "no-store" });
}
