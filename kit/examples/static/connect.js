// Everything that connects this site to the gateway.
import { createReader, pageMark, report, verifyCall, writeManifest } from "ubiquon-kit";

/** Fetches all content once, and says which pages there are, and what each is made of. */
export async function pagesOf(order) {
  const build = String(order.number);
  const latest = { sort: ["-published"], limit: 5, fields: ["title", "slug"] };
  // Which notices there are is what every page hangs on: read for no page in particular.
  for await (const _ of createReader({ build, page: "" }).all("notices", { fields: ["slug"], sort: ["slug"] }));
  const reader = createReader({ minSequence: order.sequence });
  const { items } = await reader.list("notices", latest);
  const pages = [{ path: "/", title: "Notices", latest: items, reads: ["/notices?sort=-published&limit=5&fields=title,slug"] }];
  for await (const n of reader.all("notices", { fields: ["title", "slug", "text"] })) {
    pages.push({ path: "/notices/" + n.slug, title: n.title, html: n.text?.html ?? "", entries: [n.id] });
  }
  await writeManifest({ build }, pages.map((p) => ({ page: p.path, reads: p.reads, entries: p.entries })));
  return pages.map((p) => ({ ...p, mark: pageMark(reader.sequence) }));
}

/** The order that a call of the gateway brings. */
export const orderOf = async (request) => (await verifyCall(request)).data;

/** Does what an order says, and reports how it goes. */
export async function carryOut(order, build) {
  await report(order, "started");
  await build(order).then(() => report(order, "finished"), (e) => report(order, "failed", { error: String(e) }));
}
