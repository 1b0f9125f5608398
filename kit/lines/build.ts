import { createReader, pageMark, report, verifyCall, type BuildCall } from "ubiquon-kit";

// Takes the call that starts a build.
export async function build(request: Request): Promise<Response> {
  const order = (await verifyCall(request)).data as BuildCall;
  if (!order.test) void render(order).then(() => report(order, "finished"), (e) => report(order, "failed", { error: String(e) }));
  return new Response(null, { status: 202 });
}

// Renders the pages that are asked for; what each reads is noted as what it is made of.
async function render(order: BuildCall): Promise<void> {
  await report(order, "started");
  const site = createReader({ build: String(order.number), page: "", minSequence: order.sequence });
  for await (const { path } of site.paths()) {
    if (order.pages !== "all" && !order.pages.includes(path)) continue;
    const reader = site.page(path, { build: String(order.number) });
    const entry = await reader.at(path);
    // Render the entry, with pageMark(reader.sequence) in its head, and write it.
  }
}
