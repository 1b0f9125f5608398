import { Box, Flex, Input, Text } from "@chakra-ui/react";
import { ArrowDown, ArrowUp, Plus, X } from "lucide-react";
import { useState } from "react";
import type { Field, Model, Type } from "../../api";
import { Act, inputStyle, Labelled, Mono } from "../../ui";
import { FieldWindow } from "./field-window";

const moved = <T,>(list: T[], i: number, to: number): T[] => {
  const next = [...list];
  [next[i], next[to]] = [next[to]!, next[i]!];
  return next;
};

/** What a record, or each kind of block, is made of. */
export function InnerFields({ kind, inner, set, model }: { kind: string; inner: Type[]; set: (inner: Type[]) => void; model: Model }) {
  const [editing, setEditing] = useState<{ type: number; field: number | "new" } | null>(null);
  const shown: Type[] = kind === "record" && inner.length === 0 ? [{ name: "", plural: "", label: "", fields: [] }] : inner;
  const put = (i: number, t: Type) => set(shown.map((x, j) => (j === i ? t : x)));
  const at = editing && shown[editing.type];
  const field: Field | undefined = at ? (editing.field === "new" ? { name: "", kind: "text" } : at.fields[editing.field]) : undefined;
  return (
    <Labelled name="inner" label={kind === "record" ? "Fields of the record" : "Kinds of block"}>
      <Box w="full">
        {shown.map((t, i) => (
          <Box key={i} borderWidth={kind === "blocks" ? "1px" : "0"} borderColor="line" p={kind === "blocks" ? "2.5" : "0"} mb="2" data-inner={t.name || "record"}>
            {kind === "blocks" && (
              <Flex gap="2" mb="2">
                <Input {...inputStyle} fontFamily="mono" w="150px" aria-label={`Block ${i + 1}, name`} placeholder="name" value={t.name} onChange={(e) => put(i, { ...t, name: e.target.value })} />
                <Input {...inputStyle} aria-label={`Block ${i + 1}, label`} placeholder="label" value={t.label} onChange={(e) => put(i, { ...t, label: e.target.value })} />
                <Act aria-label={`Remove block ${i + 1}`} onClick={() => set(shown.filter((_, j) => j !== i))}>
                  <X size={13} />
                </Act>
              </Flex>
            )}
            {t.fields.map((f, n) => (
              <Flex key={f.name} gap="2" py="1" align="center" borderBottomWidth="1px" borderColor="line" data-inner-field={f.name}>
                <Mono minW="120px">{f.name}</Mono>
                <Text color="faint" flex="1">
                  {[f.kind, f.required && "required", f.several && "several"].filter(Boolean).join(", ")}
                </Text>
                <Act aria-label={`Move ${f.name} up`} disabled={n === 0} onClick={() => put(i, { ...t, fields: moved(t.fields, n, n - 1) })}>
                  <ArrowUp size={13} />
                </Act>
                <Act aria-label={`Move ${f.name} down`} disabled={n === t.fields.length - 1} onClick={() => put(i, { ...t, fields: moved(t.fields, n, n + 1) })}>
                  <ArrowDown size={13} />
                </Act>
                <Act aria-label={"Change " + f.name} onClick={() => setEditing({ type: i, field: n })}>
                  Change
                </Act>
              </Flex>
            ))}
            <Act mt="2" onClick={() => setEditing({ type: i, field: "new" })}>
              <Plus size={13} /> Field within it
            </Act>
          </Box>
        ))}
        {kind === "blocks" && (
          <Act onClick={() => set([...shown, { name: "", plural: "", label: "", fields: [] }])}>
            <Plus size={13} /> Kind of block
          </Act>
        )}
        {editing && at && field && (
          <FieldWindow
            nested
            model={model}
            type={at}
            field={field}
            known={false}
            close={() => setEditing(null)}
            save={(f) => put(editing.type, { ...at, fields: editing.field === "new" ? [...at.fields, f] : at.fields.map((x, n) => (n === editing.field ? f : x)) })}
            remove={editing.field === "new" ? undefined : () => put(editing.type, { ...at, fields: at.fields.filter((_, n) => n !== editing.field) })}
          />
        )}
      </Box>
    </Labelled>
  );
}
