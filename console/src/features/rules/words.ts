import type { Model, Rule, Step, Vocabulary } from "../../api";

/** What is said of events in sentences. */
const happened: Record<string, string> = {
  saved: "is saved",
  submitted: "is submitted for review",
  approved: "is approved",
  returned: "is returned",
  published: "is published",
  unpublished: "is unpublished",
  deleted: "is deleted",
  moved: "moves with the page above it, or shows a file that has changed",
  "submission-received": "is handed in from outside",
  "build-failed": "a build fails",
  "site-failing": "a site keeps failing",
  "site-recovered": "a site works again",
  "hook-refused": "an announcement is refused",
  "origin-silent": "an origin cannot be read",
  "origin-back": "an origin is back",
  "schedule-failed": "a schedule fails",
  "node-lost": "a node is lost",
  "page-late": "a page does not show a change in time",
};

export const eventWords = (event: string) => happened[event] ?? event;

const list = (all: string[], word = "or") => (all.length < 2 ? (all[0] ?? "") : all.slice(0, -1).join(", ") + ` ${word} ` + all.at(-1));

/** A step in words. */
export function stepWords(s: Step): string {
  if (s.rebuild) return `rebuild ${s.rebuild.site}${s.rebuild.now ? " at once" : ""}`;
  if (s.refresh) return `refresh ${s.refresh.pages?.length ? (s.refresh.pages[0] === "*" ? "all pages" : s.refresh.pages.join(", ")) : "the entry's pages"} of ${s.refresh.site}`;
  if (s.purge) return `throw away cached answers${s.purge.types?.length ? " of " + list(s.purge.types, "and") : ""}`;
  if (s.warm) return "compute answers ahead";
  if (s.mail) return `send mail to ${list(s.mail.to ?? [], "and")}`;
  if (s.call) return `call ${s.call.address}`;
  const which = (w: unknown) => (w === "this" ? "the entry" : ((w as { filter?: string })?.filter ?? "entries"));
  if (s.publish) return `publish ${which(s.publish)}`;
  if (s.unpublish) return `unpublish ${which(s.unpublish)}`;
  if (s.schedule) return `${s.schedule.action} ${which(s.schedule.of)} after ${s.schedule.in}`;
  if (s.wait) return `wait for ${s.wait.for}`;
  return "?";
}

/** A rule in one sentence. */
export function sentence(r: Rule, service: string[] = []): string {
  const steps = (r.do ?? []).map(stepWords);
  const then = steps.length ? list(steps, "and") : "do nothing";
  if (r.at) return `At ${r.at}${r.zone ? " in " + r.zone : ""}, ${then}.`;
  const on = r.on ?? [];
  const own = on.filter((e) => service.includes(e)).map(eventWords);
  const content = on.filter((e) => !service.includes(e)).map(eventWords);
  const subject = r.types?.length ? `a ${list(r.types)}` : "an entry";
  const alike = content.every((w) => w.startsWith("is "));
  const happens = alike ? "is " + list(content.map((w) => w.slice(3))) : list(content);
  const when = [...(content.length ? [`${subject} ${happens}`] : []), ...own];
  return `When ${list(when) || "nothing"}${r.when ? ` and ${r.when}` : ""}, ${then}.`;
}

/** The model with events as a type: so that conditions are completed as filters on content are. */
export function withEvents(model: Model | undefined, words: Vocabulary | undefined, types: string[]): Model | undefined {
  if (!model || !words) return undefined;
  const leads = types.length ? types : model.types.map((t) => t.name);
  const text = (name: string, options?: string[], several = false) => ({ name, kind: options ? "choice" : "text", several, options: options?.map((value) => ({ value, label: value })) });
  const event = {
    name: "event",
    plural: "events",
    label: "Event",
    fields: [
      text("event", [...words.contentEvents, ...words.serviceEvents]),
      text("type", model.types.map((t) => t.name)),
      text("locales", undefined, true),
      text("changed", undefined, true),
      ...["by", "role", "origin", "subject", "detail"].map((name) => text(name)),
      { name: "entry", kind: "reference", types: leads },
      { name: "before", kind: "reference", types: leads },
    ],
  };
  return { ...model, types: [...model.types, event as unknown as Model["types"][number]] };
}
