import { revalidatePath, revalidateTag } from "next/cache";
import { after } from "next/server";
import { stalePages, tagOf, verifyCall } from "ubiquon-kit";

// Takes the call that says which pages are stale, and has them rendered again at once.
export async function POST(request) {
  try {
    const told = stalePages(await verifyCall(request));
    if (told.all) revalidatePath("/", "layout");
    for (const read of told.reads) revalidateTag(tagOf(read), { expire: 0 });
    for (const page of told.pages) revalidatePath(page.path);
    after(() => Promise.allSettled(told.pages.map((page) => fetch(new URL(page.path, request.url)))));
    return Response.json({});
  } catch (e) {
    return new Response(e.message, { status: e.status ?? 500 });
  }
}
