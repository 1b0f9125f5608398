import { autocompletion, type Completion } from "@codemirror/autocomplete";
import { defaultKeymap, history, historyKeymap } from "@codemirror/commands";
import { markdown } from "@codemirror/lang-markdown";
import { EditorSelection, EditorState, Prec, type ChangeSpec } from "@codemirror/state";
import { EditorView, keymap } from "@codemirror/view";
import { Box, Button, Flex, Text } from "@chakra-ui/react";
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { Bold, Code, Eye, Heading2, Italic, Link2, List, ListOrdered, Quote } from "lucide-react";
import { useEffect, useRef, useState, type ReactNode } from "react";
import { call, key, type Entry, type RenderedProse } from "../api";
import { useRested } from "../lib/rested";
import { look } from "./look";

/** Puts marks around what is selected, or takes them away. */
function around(mark: string) {
  return (view: EditorView) => {
    const { state } = view;
    const change = state.changeByRange((range) => {
      const before = state.sliceDoc(range.from - mark.length, range.from);
      const after = state.sliceDoc(range.to, range.to + mark.length);
      if (before === mark && after === mark)
        return {
          changes: [
            { from: range.from - mark.length, to: range.from },
            { from: range.to, to: range.to + mark.length },
          ],
          range: EditorSelection.range(range.from - mark.length, range.to - mark.length),
        };
      return {
        changes: [
          { from: range.from, insert: mark },
          { from: range.to, insert: mark },
        ],
        range: EditorSelection.range(range.from + mark.length, range.to + mark.length),
      };
    });
    view.dispatch(change);
    view.focus();
    return true;
  };
}

/** Begins each line that is selected with a mark, or takes it away where all have it. */
function lines(mark: (n: number) => string) {
  return (view: EditorView) => {
    const { state } = view;
    const { from, to } = state.selection.main;
    const first = state.doc.lineAt(from).number;
    const last = state.doc.lineAt(to).number;
    const all = Array.from({ length: last - first + 1 }, (_, i) => state.doc.line(first + i));
    const has = all.every((l, i) => l.text.startsWith(mark(i)));
    const changes: ChangeSpec[] = all.map((l, i) => (has ? { from: l.from, to: l.from + mark(i).length } : { from: l.from, insert: mark(i) }));
    view.dispatch({ changes });
    view.focus();
    return true;
  };
}

/** Begins a link to an entry: what is written after [[ is searched for in titles. */
function link(view: EditorView) {
  const { from, to } = view.state.selection.main;
  const insert = "[[" + view.state.sliceDoc(from, to);
  view.dispatch({ changes: { from, to, insert }, selection: { anchor: from + insert.length }, userEvent: "input.type" });
  view.focus();
  return true;
}

/** Offers entries by title after [[, and writes a link to the one that is chosen. */
const entries = autocompletion({
  icons: false,
  interactionDelay: 0,
  override: [
    async (context) => {
      const open = context.matchBefore(/\[\[[^\]\n]*$/);
      if (!open) return null;
      const search = open.text.slice(2).trim();
      const stop = new AbortController();
      context.addEventListener("abort", () => stop.abort());
      await new Promise((resume) => setTimeout(resume, 150));
      if (context.aborted) return null;
      const found = await call<{ items: Entry[] }>("/entries?" + new URLSearchParams({ limit: "10", ...(search ? { search } : {}) }), { signal: stop.signal }).catch(() => ({ items: [] }));
      const options = found.items.map((e): Completion => ({ label: e.title || e.id, detail: e.type, apply: (view, _c, from, to) => view.dispatch({ changes: { from, to, insert: `[${search || e.title}](ref:${e.id})` }, selection: { anchor: from + `[${search || e.title}](ref:${e.id})`.length } }) }));
      return { from: open.from, options, filter: false };
    },
  ],
});

const tools: [string, ReactNode, (view: EditorView) => boolean, string?][] = [
  ["Bold", <Bold key="b" size={14} />, around("**"), "Mod-b"],
  ["Italic", <Italic key="i" size={14} />, around("*"), "Mod-i"],
  ["Code", <Code key="c" size={14} />, around("`"), "Mod-e"],
  ["Heading", <Heading2 key="h" size={14} />, lines(() => "## ")],
  ["List", <List key="l" size={14} />, lines(() => "- ")],
  ["Numbered list", <ListOrdered key="o" size={14} />, lines((n) => n + 1 + ". ")],
  ["Quote", <Quote key="q" size={14} />, lines(() => "> ")],
  ["Link to an entry", <Link2 key="k" size={14} />, link, "Mod-k"],
];

/** The text as readers of drafts would get it. */
function Preview({ text, marks, locale }: { text: string; marks: string[]; locale?: string }) {
  const rested = useRested(text, 250);
  const out = useQuery({
    queryKey: key("prose", rested, marks, locale),
    queryFn: ({ signal }) => call<RenderedProse>("/prose", { method: "POST", body: { text: rested, marks, locale }, signal }),
    placeholderData: keepPreviousData,
    staleTime: 60_000,
    retry: false,
  });
  return (
    <Box flex="1 1 260px" minW="0" borderLeftWidth={{ md: "1px" }} borderColor="line" pl={{ md: "4" }} aria-label="As readers get it" role="region">
      {out.error && <Text color="failure">✕ {out.error.message}</Text>}
      {!!out.data?.lost.length && <Text color="warning">◐ not delivered: {out.data.lost.join(", ")}</Text>}
      {/* What the service sends has been sanitised there, as readers get it. */}
      <Box
        data-rendered
        onClick={(e) => e.preventDefault()}
        css={{ "& h1, & h2, & h3": { fontWeight: 650, fontSize: "1.15em", margin: "0.8em 0 0.3em" }, "& p": { margin: "0.5em 0" }, "& ul": { listStyle: "disc", paddingLeft: "1.4em" }, "& ol": { listStyle: "decimal", paddingLeft: "1.4em" }, "& blockquote": { borderLeft: "3px solid var(--chakra-colors-line)", paddingLeft: "1em" }, "& code": { fontFamily: "mono" } }}
        dangerouslySetInnerHTML={{ __html: out.data?.html ?? "" }}
      />
    </Box>
  );
}

/** Writes CommonMark, with the result beside it if that is wanted. */
export default function MarkdownEditor({ label, value, set, readOnly, marks = [], locale }: { label: string; value: string; set: (text: string) => void; readOnly: boolean; marks?: string[]; locale?: string }) {
  const place = useRef<HTMLDivElement>(null);
  const view = useRef<EditorView | null>(null);
  const now = useRef({ set, label });
  now.current = { set, label };
  // What was typed and has not come back as the value yet: see Editor.
  const typed = useRef<string[]>([]);
  const [preview, setPreview] = useState(false);

  useEffect(() => {
    const made = new EditorView({
      parent: place.current!,
      state: EditorState.create({
        doc: value,
        extensions: [
          EditorView.theme({ ".cm-scroller": { fontFamily: "'Figtree Variable', sans-serif", fontSize: "14px" }, ".cm-content": { minHeight: "76px" }, "&": { maxHeight: "440px", border: "none" }, "&.cm-focused": { outline: "none" } }),
          look,
          markdown(),
          EditorView.lineWrapping,
          EditorView.contentAttributes.of({ "aria-label": now.current.label, "aria-multiline": "true", role: "textbox", tabindex: "0" }),
          readOnly
            ? [EditorState.readOnly.of(true), EditorView.editable.of(false)]
            : [history(), entries, Prec.high(keymap.of(tools.flatMap(([, , run, k]) => (k ? [{ key: k, run, stopPropagation: true }] : [])))), keymap.of([...historyKeymap, ...defaultKeymap])],
          EditorView.updateListener.of((u) => {
            if (!u.docChanged || u.transactions.every((t) => t.isUserEvent("outside"))) return;
            typed.current.push(u.state.doc.toString());
            now.current.set(typed.current.at(-1)!);
          }),
        ],
      }),
    });
    view.current = made;
    return () => made.destroy();
    // It is made once; what changes meanwhile is read from now, and put in below.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [readOnly]);

  useEffect(() => {
    const v = view.current;
    const back = typed.current.lastIndexOf(value);
    typed.current.splice(0, back + 1);
    if (!v || back >= 0 || v.state.doc.toString() === value) return;
    typed.current = [];
    v.dispatch({ changes: { from: 0, to: v.state.doc.length, insert: value }, userEvent: "outside" });
  }, [value]);

  return (
    <Box borderWidth="1px" borderColor="control" borderRadius="sm" bg="sheet" data-prose={label} _focusWithin={{ outline: "2px solid", outlineColor: "accent", outlineOffset: "-1px" }}>
      {!readOnly && (
        <Flex role="toolbar" aria-label={"Marks of " + label} borderBottomWidth="1px" borderColor="line" px="1" wrap="wrap">
          {tools.map(([name, icon, run, k]) => (
            <Button key={name} size="xs" variant="plain" color="ink" px="2" aria-label={name} title={k ? `${name} (${k.replace("Mod", "Ctrl")})` : name} onClick={() => view.current && run(view.current)}>
              {icon}
            </Button>
          ))}
          <Box flex="1" />
          <Button size="xs" variant="plain" color={preview ? "accent" : "ink"} aria-pressed={preview} onClick={() => setPreview(!preview)}>
            <Eye size={14} /> Preview
          </Button>
        </Flex>
      )}
      <Flex gap="2" p="1" wrap="wrap">
        <Box ref={place} flex="1 1 260px" minW="0" />
        {preview && <Preview text={value} marks={marks} locale={locale} />}
      </Flex>
    </Box>
  );
}
