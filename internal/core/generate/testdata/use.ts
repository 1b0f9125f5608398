// What a front end writes, with everything that must not compile marked so.
import { Reader, ReadError, type Notice, type Page } from "./content";

const reader = new Reader({ address: "http://gateway.example/content/main/published", key: "none" });

export async function use() {
  const list = await reader.list("notices", {
    fields: ["title", "severity", { routes: ["name", { piers: ["name"] }], text: ["plain"], about: ["path"] }],
    filter: "severity = 'delay'",
    sort: ["-published"],
    locale: "nb",
  });
  const notice = list.items[0]!;
  const title: string | null = notice.title;
  const severity: "information" | "delay" | "cancelled" | null = notice.severity;
  const pier: string | null = notice.routes[0]!.piers[0]!.name;
  const plain: string | undefined = notice.text?.plain;
  const path: string | null = notice.about.path;
  const id: string = notice.id;
  // @ts-expect-error: it was not asked for
  notice.validUntil;
  // @ts-expect-error: nor was this form
  notice.text?.html;
  // @ts-expect-error: there is no such field
  await reader.list("notices", { fields: ["titel"] });
  // @ts-expect-error: nor there
  await reader.list("notices", { fields: [{ routes: ["nam"] }] });
  // @ts-expect-error: there is no such list
  await reader.list("notes");
  // @ts-expect-error: there is no such locale
  await reader.list("notices", { locale: "sv" });
  const whole = await reader.one("notices", "fog");
  const html: string | undefined = whole?.text?.html;
  const linked: string | undefined = whole?.routes[0]?.id;
  const settings = await reader.single("harbour-settings", { fields: ["name", "office"] });
  const town: string | null | undefined = settings?.office?.town;
  const back = await reader.list("routes", { fields: ["name", { notices: ["title"] }] });
  const first: string | null | undefined = back.items[0]?.notices[0]?.title;
  const route = await reader.one("routes", "outer-ring");
  // @ts-expect-error: a way back comes only when it is asked for
  route?.notices;
  return [title, severity, pier, plain, path, id, html, linked, town, first];
}

use().catch((e: unknown) => {
  if (e instanceof ReadError) return [e.status, e.problem.grant, e.problem.hint];
  throw e;
});

export type Severity = Notice["severity"];
export const kinds = (page: Page): string[] => (page.blocks ?? []).map((b) => (b.block === "heading" ? (b.text ?? "") : b.block));
