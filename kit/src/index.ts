// Everything that a front end needs to read from Ubiquon and to be kept fresh by it. Without dependencies;
// for Node 20 and later and for edge run times: fetch and WebCrypto are all it asks for.

export { createReader, tagOf, type KitOptions } from "./reader.ts";
export { CallError, report, stalePages, verifyCall, type BuildCall, type Call, type StalePage, type StalePages } from "./calls.ts";
export { exitPreview, livePreview, previewHandler, previewToken, type PreviewOptions } from "./preview.ts";
export { pageMark, writeManifest, type ManifestPage } from "./pages.ts";
export {
  ReadError,
  Reader,
  type About,
  type AnyEntry,
  type AnyModel,
  type AtPath,
  type File,
  type List,
  type ListOptions,
  type Model,
  type Money,
  type Options,
  type Picked,
  type Point,
  type ProblemDocument,
  type Prose,
  type ProseNode,
  type Selection,
  type SitePath,
} from "./reader.gen.ts";
