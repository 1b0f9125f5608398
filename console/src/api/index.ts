// The control endpoints, as the console uses them.

import type { Grant, Model, State } from "./types";

export * from "./client";
export { key, refresh, refreshAll, setEnvironment } from "./keys";
export * from "./stream";
export type * from "./types";

export const states: State[] = ["draft", "in review", "scheduled", "published", "revised", "retired"];

export const kinds = ["text", "prose", "slug", "integer", "decimal", "money", "boolean", "date", "datetime", "choice", "reference", "file", "location", "json", "record", "blocks"];

export const grantText = (g: Grant) => `${g.verb} ${g.edition} ${g.type}${g.locales?.length ? " in " + g.locales.join(",") : ""}`;

export const roles: Record<string, string> = {
  reader: "sees everything, changes nothing",
  editor: "writes, and submits for review",
  approver: "also approves, publishes and schedules",
  admin: "also sees to types, keys and accounts",
};

/** The type of files comes with every model. Its entries have a page of their own. */
export const fileType = "file";

/** The types of a model that are its own. */
export const ownTypes = (m: Model | undefined) => (m?.types ?? []).filter((t) => t.name !== fileType);
