import { MergeView } from "@codemirror/merge";
import { EditorState } from "@codemirror/state";
import { EditorView } from "@codemirror/view";
import { Box } from "@chakra-ui/react";
import { useEffect, useRef } from "react";
import { look } from "./look";

/** Two texts side by side, with what differs marked and what is alike folded away. */
export default function Merge({ before, after, names }: { before: string; after: string; names: [string, string] }) {
  const place = useRef<HTMLDivElement>(null);
  const [a, b] = names;
  useEffect(() => {
    const side = (doc: string, name: string) => ({ doc, extensions: [look, EditorView.lineWrapping, EditorState.readOnly.of(true), EditorView.editable.of(false), EditorView.contentAttributes.of({ "aria-label": name, tabindex: "0" })] });
    const view = new MergeView({ parent: place.current!, a: side(before, a), b: side(after, b), collapseUnchanged: { margin: 2, minSize: 5 }, gutter: false });
    return () => view.destroy();
  }, [before, after, a, b]);
  return (
    <Box
      ref={place}
      css={{
        "& .cm-mergeView .cm-editor": { border: "none" },
        "& .cm-changedLine": { background: "color-mix(in srgb, var(--chakra-colors-accent) 7%, transparent)" },
        "& .cm-merge-a .cm-changedText": { background: "color-mix(in srgb, var(--chakra-colors-failure) 22%, transparent)", textDecoration: "line-through" },
        "& .cm-merge-b .cm-changedText": { background: "color-mix(in srgb, var(--chakra-colors-good) 26%, transparent)", textDecoration: "underline" },
        "& .cm-collapsedLines": { background: "transparent", color: "var(--chakra-colors-ink)" },
      }}
    />
  );
}
