import { Box, Button, Flex, Input, Text, Textarea } from "@chakra-ui/react";
import { FileControl } from "../files/file-field";
import { ArrowDown, ArrowUp, Plus, X } from "lucide-react";
import { lazy, Suspense, useContext, useState, type ReactNode } from "react";
import type { Field, Fields, Type } from "../../api";
import { Act, inputStyle, Pick, saidName, Tick } from "../../ui";
import { Form, type Control } from "./form-context";
import { JSONText, Location, Moment, Money } from "./kinds";
import { Reference, ReferencePicker } from "./reference";

const MarkdownEditor = lazy(() => import("../../code/markdown"));

function One(c: Control): ReactNode {
  const { readOnly, model } = useContext(Form);
  const { field, value, set, label } = c;
  const text = value === undefined || value === null ? "" : String(value);
  const take = (v: string) => set(v === "" ? undefined : v);
  switch (field.kind) {
    case "prose":
      return (
        <Suspense fallback={<Textarea {...inputStyle} rows={4} readOnly value={text} />}>
          <MarkdownEditor label={label} value={text} set={take} readOnly={readOnly} marks={field.marks ?? undefined} locale={c.locale} />
        </Suspense>
      );
    case "integer":
    case "decimal":
      return <Input {...inputStyle} w="160px" type="number" step={field.kind === "decimal" ? "any" : 1} readOnly={readOnly} aria-label={label} value={text} onChange={(e) => set(e.target.value === "" ? undefined : Number(e.target.value))} />;
    case "boolean":
      return (
        <Pick label={label} value={text} onChange={(v) => !readOnly && set(v === "" ? undefined : v === "true")} w="120px">
          <option value="">–</option>
          <option value="true">yes</option>
          <option value="false">no</option>
        </Pick>
      );
    case "date":
      return <Input {...inputStyle} w="170px" type="date" readOnly={readOnly} aria-label={label} value={text} onChange={(e) => take(e.target.value)} />;
    case "datetime":
      return <Moment {...c} />;
    case "choice":
      return (
        <Pick label={label} value={text} onChange={(v) => !readOnly && take(v)} w="220px">
          <option value="">–</option>
          {field.options?.map((o) => (
            <option key={o.value} value={o.value}>
              {o.labels?.[model.locales[0]?.tag ?? ""] ?? o.label}
            </option>
          ))}
        </Pick>
      );
    case "reference":
      return <Reference {...c} />;
    case "money":
      return <Money {...c} />;
    case "file":
      return <FileControl {...c} />;
    case "location":
      return <Location {...c} />;
    case "json":
      return <JSONText {...c} />;
    case "record":
      return (
        <Box borderLeftWidth="2px" borderColor="line" pl="3">
          <Group type={field.inner![0]!} value={(value ?? {}) as Fields} set={(v) => set(Object.keys(v).length ? v : undefined)} path={c.path} />
        </Box>
      );
    default:
      return <Input {...inputStyle} readOnly={readOnly} aria-label={label} fontFamily={field.kind === "slug" ? "mono" : undefined} value={text} placeholder={field.madeFrom ? "made from " + field.madeFrom : undefined} onChange={(e) => take(e.target.value)} />;
  }
}

type RowKeys = { keys: string[]; set: (keys: string[]) => void };

const fitted = (keys: string[], length: number) => Array.from({ length }, (_, i) => keys[i] ?? crypto.randomUUID());

/** Keys for the rows of a list, which stay with them when rows are moved or taken out. */
function useRows(length: number): RowKeys {
  const [keys, set] = useState(() => fitted([], length));
  if (keys.length === length) return { keys, set };
  const next = fitted(keys, length);
  set(next);
  return { keys: next, set };
}

/** The buttons that move and take out one of several values; rows are the keys of their rows. */
function Order({ list, i, set, rows }: { list: unknown[]; i: number; set: (v: unknown) => void; rows: RowKeys }) {
  const { readOnly } = useContext(Form);
  if (readOnly) return null;
  const move = (to: number) => {
    const next = [...list];
    [next[i], next[to]] = [next[to], next[i]];
    const keys = [...rows.keys];
    [keys[i], keys[to]] = [keys[to]!, keys[i]!];
    rows.set(keys);
    set(next);
  };
  return (
    <Flex flex="none">
      <Button size="2xs" variant="plain" color="faint" aria-label="Up" disabled={i === 0} onClick={() => move(i - 1)}>
        <ArrowUp size={13} />
      </Button>
      <Button size="2xs" variant="plain" color="faint" aria-label="Down" disabled={i === list.length - 1} onClick={() => move(i + 1)}>
        <ArrowDown size={13} />
      </Button>
      <Button
        size="2xs"
        variant="plain"
        color="faint"
        aria-label="Remove"
        onClick={() => {
          const next = list.filter((_, j) => j !== i);
          rows.set(rows.keys.filter((_, j) => j !== i));
          set(next.length ? next : undefined);
        }}
      >
        <X size={13} />
      </Button>
    </Flex>
  );
}

function BlocksOf({ field, value, set, path }: Control) {
  const { readOnly } = useContext(Form);
  const list = (value ?? []) as Fields[];
  const rows = useRows(list.length);
  return (
    <Flex direction="column" gap="2">
      {list.map((b, i) => {
        const type = field.inner?.find((t) => t.name === b.block);
        return (
          <Box key={rows.keys[i]} borderWidth="1px" borderColor="line" bg="paper" p="3" data-block={String(b.block)}>
            <Flex justify="space-between" mb="1">
              <Text color="faint" fontSize="12px" fontWeight="600">
                {type?.label ?? String(b.block)}
              </Text>
              <Order list={list} i={i} set={set} rows={rows} />
            </Flex>
            {type && <Group type={type} value={b} set={(v) => set(list.map((x, j) => (j === i ? { ...v, block: b.block } : x)))} path={`${path}[${i}]`} />}
          </Box>
        );
      })}
      {!readOnly && (
        <Flex gap="1" wrap="wrap" align="center">
          <Text color="faint" fontSize="12px">
            Add
          </Text>
          {field.inner?.map((t) => (
            <Act key={t.name} onClick={() => set([...list, { block: t.name }])}>
              <Plus size={13} /> {t.label}
            </Act>
          ))}
        </Flex>
      )}
    </Flex>
  );
}

function Values(c: Control) {
  const { readOnly } = useContext(Form);
  const { field, set, label, path } = c;
  const list = (field.several ? (c.value ?? []) : []) as unknown[];
  const rows = useRows(list.length);
  if (field.kind === "blocks") return <BlocksOf {...c} />;
  if (!field.several) return <One {...c} />;
  if (field.kind === "choice")
    return (
      <Flex gap="4" wrap="wrap">
        {field.options?.map((o) => (
          <Tick
            key={o.value}
            checked={list.includes(o.value)}
            onChange={(yes) => {
              const next = yes ? [...list, o.value] : list.filter((v) => v !== o.value);
              if (!readOnly) set(next.length ? next : undefined);
            }}
          >
            {o.label}
          </Tick>
        ))}
      </Flex>
    );
  const put = (i: number, v: unknown) => {
    // An empty row stays until it is taken out; it is not saved.
    set(list.map((x, j) => (j === i ? (v ?? "") : x)));
  };
  return (
    <Flex direction="column" gap="1.5">
      {list.map((v, i) => (
        <Flex key={rows.keys[i]} gap="2" align={field.kind === "record" ? "start" : "center"}>
          <Box flex="1">
            <One field={field} value={v} set={(x) => put(i, x)} path={`${path}[${i}]`} label={`${label} ${i + 1}`} locale={c.locale} inList />
          </Box>
          <Order list={list} i={i} set={set} rows={rows} />
        </Flex>
      ))}
      {!readOnly &&
        (field.kind === "reference" ? (
          <ReferencePicker field={field} set={(id) => set([...list, id])} />
        ) : (
          <Box>
            <Act onClick={() => set([...list, field.kind === "record" ? {} : ""])}>
              <Plus size={13} /> Add
            </Act>
          </Box>
        ))}
    </Flex>
  );
}

function said(field: Field): string {
  const limits = [
    field.required && "required",
    field.unique && field.kind !== "slug" && "unique",
    field.min !== undefined && `at least ${field.min}`,
    field.max !== undefined && `at most ${field.max}`,
    field.pattern && `matches ${field.pattern}`,
    field.default !== undefined && `${JSON.stringify(field.default)} if left out`,
  ].filter(Boolean);
  return [field.help, limits.join(", ")].filter(Boolean).join(" · ");
}

/** One field with its label, in one locale or in two side by side. */
function FieldRow({ field, value, set, path }: { field: Field; value: unknown; set: (v: unknown) => void; path: string }) {
  const { locales, wrong, readOnly, model, editing, touch } = useContext(Form);
  const source = locales[0] ?? "";
  const label = field.label || saidName(field.name);
  const per = (value ?? {}) as Fields;
  const put = (tag: string, v: unknown) => {
    const next = { ...per, [tag]: v };
    if (v === undefined) delete next[tag];
    set(Object.keys(next).length ? next : undefined);
  };
  const errors = Object.entries(wrong)
    .filter(([at]) => at === path || (at.startsWith(path) && /^[.[]/.test(at.slice(path.length)) && field.kind !== "blocks" && field.kind !== "record"))
    .flatMap(([, texts]) => texts);
  const name = (tag: string) => model.locales.find((l) => l.tag === tag)?.name ?? tag;
  return (
    <Box py="2.5" data-field={field.name} role="group" aria-label={label} onFocus={(e) => (e.stopPropagation(), touch(path))} onBlur={(e) => e.currentTarget.contains(e.relatedTarget) || touch("")}>
      <Flex gap="2" mb="1" align="baseline" wrap="wrap">
        <Text fontWeight="600" fontSize="13px">
          {label}
        </Text>
        <Text color={field.deprecated ? "warning" : "faint"} fontSize="12px">
          {field.deprecated ? "deprecated: " + field.deprecated : said(field)}
        </Text>
        {editing
          .filter((x) => x.field === path)
          .map((x) => (
            <Text key={x.who} color="warning" fontSize="12px" role="status">
              ◐ {x.who} is editing this
            </Text>
          ))}
      </Flex>
      {field.translated ? (
        <Flex gap="2" align="start">
          {locales.map((tag, i) => (
            <Flex key={tag} flex="1" minW="0" gap="2" align="start">
              {i > 0 && !readOnly && (
                <Button size="xs" variant="plain" color="faint" px="0" aria-label={`Copy ${label} over from ${source}`} title={`Copy over from ${name(source)}`} disabled={per[source] === undefined} onClick={() => put(tag, structuredClone(per[source]))}>
                  →
                </Button>
              )}
              <Box flex="1" minW="0" data-locale={tag}>
                <Values field={field} value={per[tag]} set={(v) => put(tag, v)} path={`${path}.${tag}`} label={`${label}, ${name(tag)}`} locale={tag} />
              </Box>
            </Flex>
          ))}
        </Flex>
      ) : (
        <Values field={field} value={value} set={set} path={path} label={label} />
      )}
      {errors.map((text) => (
        <Text key={text} color="failure" role="alert">
          ✕ {text}
        </Text>
      ))}
    </Box>
  );
}

/** The fields of a type, a record or a block. */
export function Group({ type, value, set, path = "fields" }: { type: Type; value: Fields; set: (value: Fields) => void; path?: string }) {
  return (
    <>
      {type.fields.map((f) => (
        <FieldRow
          key={f.name}
          field={f}
          value={value[f.name]}
          path={`${path}.${f.name}`}
          set={(v) => {
            const next = { ...value, [f.name]: v };
            if (v === undefined) delete next[f.name];
            set(next);
          }}
        />
      ))}
    </>
  );
}

/** What a service says is wrong, by path. */
export function byPath(problems: { path: string; text: string }[] | undefined): Record<string, string[]> {
  const out: Record<string, string[]> = {};
  for (const p of problems ?? []) (out[p.path] ??= []).push(p.text);
  return out;
}
