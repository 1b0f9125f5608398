import { parse, stringify } from "yaml";

/** Writes a value as YAML, as the files of the configuration are written. */
export const toYaml = (value: unknown) => (value === undefined ? "" : stringify(value, { lineWidth: 110 }));

/** Reads YAML; what is wrong with it is an Error whose message names line and column. */
export const fromYaml = (text: string): unknown => parse(text);
