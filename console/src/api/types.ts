// The wire types of the control endpoints under the names that the console uses. They come from
// the service's OpenAPI document: see schema.gen.ts.

import type { components } from "./schema.gen";

type S = components["schemas"];

export type Trace = S["FreshnessTrace"];
export type Cause = S["BuildCause"];
export type Build = S["Build"];
export type EventTrace = S["EventTrace"];
export type EventDetail = S["EventDetail"];
export type Site = S["SiteInfo"];
export type Liveness = S["Liveness"];
export type IssuedPreviewLink = S["IssuedPreviewLink"];
export type SitePages = S["SitePages"];
export type PageCheck = S["PageCheck"];
export type CacheStats = S["CacheStats"];
export type Status = S["Status"];
export type State = S["EntryInfo"]["state"];
export type Entry = S["EntryInfo"];
export type Fields = Record<string, unknown>;
export type Revision = S["Revision"];
export type Review = S["Review"];
export type Difference = S["FieldDifference"];
export type Schedule = S["Schedule"];
export type Change = S["Change"];
export type EntryDetail = S["EntryDetail"];
export type Option = S["Option"];
/** A field and a type, as they are edited: what is not set yet may be missing. */
export type Field = Omit<S["Field"], "inner"> & { inner?: Type[] };
export type Type = Omit<S["ModelType"], "fields" | "freshness"> & { fields: Field[]; freshness?: S["TypeFreshness"] };
export type Locale = S["Locale"];
export type Model = Omit<S["Model"], "types"> & { types: Type[] };
export type Plan = S["ModelPlan"];
export type Coverage = S["Coverage"];
export type Edit = S["Edit"];
export type Edited = S["EditOutcome"];
export type Grant = S["Grant"];
export type Key = S["KeyInfo"];
export type Sight = S["TypeVisibility"];
export type Refusal = S["Refusal"];
export type Mend = S["WhyRemedy"];
export type Reason = S["WhyReason"];
export type WhyAnswer = S["WhyAnswer"];
export type Account = S["Account"];
export type Act = S["AuditRecord"];
export type Session = S["Session"];
export type PreviewLink = S["PreviewLink"];
export type Who = S["Identity"];
export type CacheSample = S["CacheSample"];
export type RenderedProse = S["RenderedProse"];
export type SavedView = S["SavedView"];
export type FieldEditor = S["FieldEditor"];
export type Examined = S["Examined"];

/** What a problem document may say besides its words. */
export type ProblemBody = Partial<S["Problem"]>;
export type Rule = S["Rule"];
export type RuleState = S["RuleState"];
export type RuleRun = S["RuleRun"];
export type Step = S["Step"];
export type Trial = S["RuleTrialOutcome"];
export type Mistake = S["Mistake"];
export type Vocabulary = S["Vocabulary"];
export type SavedSetting = S["SavedSetting"];
export type Setting = S["Setting"];
export type Secret = S["Secret"];
export type Notification = S["Notification"];
export type NotificationSettings = S["NotificationSettings"];
export type CallAnswer = S["CallAnswer"];
export type OriginState = S["OriginState"];
export type UntakenItem = S["UntakenItem"];
export type Comparison = S["Comparison"];
export type Reconciled = S["Reconciled"];
export type CapturedCalls = S["CapturedCalls"];
export type CapturedCall = S["CapturedCall"];
export type HookTried = S["HookTried"];
export type Swapped = S["Swapped"];
export type Impact = S["Impact"];
export type Shape = S["Shape"];
export type ShapeField = S["ShapeField"];
export type OriginTried = S["OriginTried"];
export type File = S["File"];
export type FileDetail = S["FileDetail"];
export type FileList = S["FileList"];
