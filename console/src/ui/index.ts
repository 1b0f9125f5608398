// What pages are made of.

export * from "./controls";
export * from "./form";
export * from "./format";
export * from "./page";
export * from "./table";
export * from "./text";
export * from "./toast";
export * from "./window";
