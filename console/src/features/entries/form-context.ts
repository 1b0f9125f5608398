import { createContext } from "react";
import type { Field, FieldEditor, Model } from "../../api";

/** What every field of a form needs to know. */
export type FormContext = {
  model: Model;
  /** The locales that are shown: the source, and perhaps a target beside it. */
  locales: string[];
  readOnly: boolean;
  /** What the service found wrong, by path. */
  wrong: Record<string, string[]>;
  /** Who else edits which field now; touch says that this one is edited here, "" that none is. */
  editing: FieldEditor[];
  touch: (path: string) => void;
  /** Says that what is typed in a field cannot be read, so that it is not taken for its value. */
  unreadable: (label: string, is: boolean) => void;
  /** Opens a form for a new entry; calls back with its id. */
  create: (types: string[], made: (id: string) => void) => void;
};
export const Form = createContext<FormContext>(null!);

export type Control = { field: Field; value: unknown; set: (value: unknown) => void; path: string; label: string; inList?: boolean; locale?: string };
