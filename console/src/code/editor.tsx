import { defaultKeymap, history, historyKeymap } from "@codemirror/commands";
import { closeBrackets, completionKeymap } from "@codemirror/autocomplete";
import { json } from "@codemirror/lang-json";
import { bracketMatching, foldGutter, foldKeymap } from "@codemirror/language";
import { setDiagnostics, type Diagnostic } from "@codemirror/lint";
import { Compartment, EditorState, Prec, type Extension } from "@codemirror/state";
import { EditorView, keymap, placeholder as hint } from "@codemirror/view";
import { Box } from "@chakra-ui/react";
import { useEffect, useRef } from "react";
import { look } from "./look";

const quiet = new Set(["Tab"]);

/** A text with completion, and with what is wrong shown at its place. */
export function Editor({
  label,
  value,
  onChange,
  onRun,
  extensions,
  wrong,
  placeholder,
  focused = false,
  minHeight,
  maxHeight,
}: {
  label: string;
  value: string;
  onChange?: (value: string) => void;
  onRun?: () => void;
  extensions?: Extension;
  /** Problems, from and to which character. */
  wrong?: { from: number; to: number; text: string }[];
  placeholder?: string;
  /** It takes the focus at once, with the cursor at the end. */
  focused?: boolean;
  minHeight?: string;
  maxHeight?: string;
}) {
  const place = useRef<HTMLDivElement>(null);
  const view = useRef<EditorView | null>(null);
  const changing = useRef(new Compartment());
  // The view is made once; what it calls is what was handed over last.
  const now = useRef({ onChange, onRun });
  now.current = { onChange, onRun };
  // What was typed and has not come back as the value yet. Typing goes on while the
  // page catches up: such a value is no wish to put the older text back.
  const typed = useRef<string[]>([]);

  useEffect(() => {
    const readOnly = !onChange;
    const made = new EditorView({
      parent: place.current!,
      state: EditorState.create({
        doc: value,
        extensions: [
          Prec.highest(keymap.of([{ key: "Mod-Enter", run: () => (now.current.onRun?.(), true) }])),
          look,
          bracketMatching(),
          EditorView.lineWrapping,
          EditorView.contentAttributes.of({ "aria-label": label, tabindex: "0" }),
          placeholder ? hint(placeholder) : [],
          readOnly
            ? [EditorState.readOnly.of(true), json(), foldGutter(), keymap.of(foldKeymap)]
            : [history(), closeBrackets(), keymap.of([...completionKeymap, ...historyKeymap, ...defaultKeymap.filter((k) => !quiet.has(k.key ?? ""))])],
          EditorView.updateListener.of((u) => {
            if (!u.docChanged || !now.current.onChange) return;
            typed.current.push(u.state.doc.toString());
            now.current.onChange(typed.current.at(-1)!);
          }),
          changing.current.of(extensions ?? []),
        ],
      }),
    });
    view.current = made;
    if (focused) {
      made.focus();
      made.dispatch({ selection: { anchor: made.state.doc.length } });
    }
    return () => made.destroy();
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, []);

  useEffect(() => {
    const v = view.current;
    const back = typed.current.lastIndexOf(value);
    typed.current.splice(0, back + 1);
    if (!v || back >= 0 || v.state.doc.toString() === value) return;
    v.dispatch({ changes: { from: 0, to: v.state.doc.length, insert: value } });
    typed.current = [];
  }, [value]);

  useEffect(() => {
    view.current?.dispatch({ effects: changing.current.reconfigure(extensions ?? []) });
  }, [extensions]);

  useEffect(() => {
    const v = view.current;
    if (!v) return;
    const end = v.state.doc.length;
    const all: Diagnostic[] = (wrong ?? []).map((w) => ({ from: Math.min(w.from, end), to: Math.min(Math.max(w.to, w.from), end), message: w.text, severity: "error" }));
    v.dispatch(setDiagnostics(v.state, all));
  }, [wrong]);

  return <Box ref={place} data-editor={label} css={{ "& .cm-editor": { minHeight, maxHeight }, "& .cm-scroller": { overflow: "auto" } }} />;
}
