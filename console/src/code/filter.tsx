import { useMemo } from "react";
import type { Model } from "../api";
import { completing } from "./completion";
import { Editor } from "./editor";

/** A condition in CQL2 on the entries, or records, of a type, with completion and its mistake in place. */
export default function FilterEditor({ label, model, type, value, onChange, onRun, wrong, placeholder }: { label: string; model: Model | undefined; type: string; value: string; onChange: (text: string) => void; onRun: () => void; wrong?: { from: number; to: number; text: string }[]; placeholder: string }) {
  const extensions = useMemo(() => completing("filter", model, model?.types.filter((t) => t.name === type) ?? []), [model, type]);
  return <Editor focused label={label} value={value} onChange={onChange} onRun={onRun} extensions={extensions} wrong={wrong} placeholder={placeholder} />;
}
