import { json, jsonParseLinter } from "@codemirror/lang-json";
import { yaml } from "@codemirror/lang-yaml";
import { linter } from "@codemirror/lint";
import { useMemo } from "react";
import { Editor } from "./editor";

const extensions = { json: [json(), linter((view) => (view.state.doc.toString().trim() === "" ? [] : jsonParseLinter()(view)), { delay: 300 })], yaml: [yaml()] };

/** A text in JSON or YAML; what is wrong with it is shown at its place. */
export default function SourceEditor({ label, kind, value, onChange, wrong, minHeight = "96px", maxHeight = "420px" }: { label: string; kind: "json" | "yaml"; value: string; onChange?: (text: string) => void; wrong?: { line: number; column: number; text: string }[]; minHeight?: string; maxHeight?: string }) {
  const placed = useMemo(() => {
    const starts = [0];
    for (let i = value.indexOf("\n"); i >= 0; i = value.indexOf("\n", i + 1)) starts.push(i + 1);
    return wrong?.map((w) => {
      const from = (starts[w.line - 1] ?? 0) + Math.max(0, w.column - 1);
      const end = value.indexOf("\n", from);
      return { from, to: Math.max(from + 1, end < 0 ? value.length : end), text: w.text };
    });
  }, [wrong, value]);
  return <Editor label={label} value={value} onChange={onChange} extensions={extensions[kind]} wrong={placed} minHeight={minHeight} maxHeight={maxHeight} />;
}
