import { Box, Button, Flex, Input, Text, Textarea } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { ArrowDown, ArrowUp, CopyPlus, Plus, X } from "lucide-react";
import { createContext, useContext, useState, type ReactNode } from "react";
import { call, type Entry, type EntryDetail, type Field, type Fields, type Model, type Type } from "./api";
import { Act, inputStyle, Pick, saidName, Tick } from "./parts";

/** What every field of a form needs to know. */
export type FormContext = {
  model: Model;
  /** The locales that are shown: the source, and perhaps a target beside it. */
  locales: string[];
  readOnly: boolean;
  /** What the service found wrong, by path. */
  wrong: Record<string, string[]>;
  /** Opens a form for a new entry; calls back with its id. */
  create: (types: string[], made: (id: string) => void) => void;
};
export const Form = createContext<FormContext>(null!);

type Control = { field: Field; value: unknown; set: (value: unknown) => void; path: string; label: string; inList?: boolean };

/** The entry that an id stands for, by title. */
export function Linked({ id }: { id: string }) {
  const entry = useQuery({ queryKey: ["entry", id], queryFn: ({ signal }) => call<EntryDetail>("/entries/" + encodeURIComponent(id), { signal }), staleTime: 30_000, retry: false });
  return (
    <a href={"/console/entries/" + id} target="_blank" rel="noreferrer">
      {entry.error ? id + " (not there)" : (entry.data?.title ?? "…")}
    </a>
  );
}

function ReferencePicker({ field, set }: { field: Field; set: (id: string) => void }) {
  const [open, setOpen] = useState(false);
  const [search, setSearch] = useState("");
  const form = useContext(Form);
  const found = useQuery({
    queryKey: ["pick", field.types, search],
    enabled: open,
    queryFn: async ({ signal }) => {
      const lists = await Promise.all(
        (field.types ?? []).map((type) => call<{ items: Entry[] }>("/entries?limit=12&" + new URLSearchParams({ type, ...(search ? { search } : {}) }), { signal })),
      );
      return lists.flatMap((l) => l.items);
    },
  });
  if (!open)
    return (
      <Flex gap="1">
        <Act onClick={() => setOpen(true)}>
          <Plus size={13} /> Choose
        </Act>
        <Act onClick={() => form.create(field.types ?? [], set)}>
          <CopyPlus size={13} /> New {field.types?.length === 1 ? field.types[0] : "entry"}
        </Act>
      </Flex>
    );
  return (
    <Box borderWidth="1px" borderColor="accent" p="2" bg="sheet">
      <Input {...inputStyle} autoFocus placeholder={"Search " + (field.types ?? []).join(", ")} aria-label="Search entries" value={search} onChange={(e) => setSearch(e.target.value)} onKeyDown={(e) => e.key === "Escape" && setOpen(false)} />
      <Flex direction="column" mt="1" maxH="180px" overflowY="auto">
        {found.data?.map((e) => (
          <Button
            key={e.id}
            size="xs"
            variant="ghost"
            justifyContent="flex-start"
            color="ink"
            onClick={() => {
              set(e.id);
              setOpen(false);
              setSearch("");
            }}
          >
            {e.title || e.id}
            <Box as="span" color="faint">
              {e.type}, {e.state}
            </Box>
          </Button>
        ))}
        {found.data?.length === 0 && <Text color="faint">Nothing fits.</Text>}
      </Flex>
    </Box>
  );
}

function Reference({ field, value, set, inList }: Control) {
  const { readOnly } = useContext(Form);
  if (value)
    return (
      <Flex align="center" gap="2">
        <Linked id={String(value)} />
        {!readOnly && !inList && (
          <Button size="2xs" variant="plain" color="faint" aria-label="Take out" onClick={() => set(undefined)}>
            <X size={13} />
          </Button>
        )}
      </Flex>
    );
  return readOnly ? <Text color="faint">no value</Text> : <ReferencePicker field={field} set={set} />;
}

const parts = {
  money: [
    ["amount", "Minor units", true],
    ["currency", "Currency", false],
  ],
  file: [
    ["url", "Address", false],
    ["alt", "Description", false],
    ["width", "Width", true],
    ["height", "Height", true],
  ],
} as const;

/** A value of several named parts. */
function Parts({ of, value, set, label }: Control & { of: keyof typeof parts }) {
  const { readOnly } = useContext(Form);
  const v = (value ?? {}) as Record<string, unknown>;
  return (
    <Flex gap="2" wrap="wrap" align="center">
      {of === "file" && typeof v.url === "string" && <img src={v.url} alt="" style={{ height: 44, borderRadius: 3 }} />}
      {parts[of].map(([name, title, isNumber]) => (
        <Input
          key={name}
          {...inputStyle}
          flex={name === "url" || name === "alt" ? "1 1 200px" : "0 1 96px"}
          readOnly={readOnly}
          placeholder={title}
          aria-label={label + ": " + title}
          type={isNumber ? "number" : "text"}
          value={v[name] === undefined || v[name] === null ? "" : String(v[name])}
          onChange={(e) => {
            const next: Record<string, unknown> = { ...v, [name]: e.target.value === "" ? undefined : isNumber ? Number(e.target.value) : e.target.value };
            set(Object.values(next).every((x) => x === undefined) ? undefined : next);
          }}
        />
      ))}
    </Flex>
  );
}

function Location({ value, set, label }: Control) {
  const { readOnly } = useContext(Form);
  const at = (value as { coordinates?: number[] } | undefined)?.coordinates ?? [];
  const put = (i: number, text: string) => {
    const next: (number | undefined)[] = [at[0], at[1]];
    next[i] = text === "" ? undefined : Number(text);
    set(next.every((n) => n === undefined) ? undefined : { type: "Point", coordinates: next.map((n) => n ?? 0) });
  };
  return (
    <Flex gap="2">
      {["Longitude", "Latitude"].map((name, i) => (
        <Input key={name} {...inputStyle} w="140px" type="number" step="any" readOnly={readOnly} placeholder={name} aria-label={label + ": " + name} value={at[i] ?? ""} onChange={(e) => put(i, e.target.value)} />
      ))}
    </Flex>
  );
}

function JSONText({ value, set, label }: Control) {
  const { readOnly } = useContext(Form);
  const [text, setText] = useState(value === undefined ? "" : JSON.stringify(value, null, 2));
  const [bad, setBad] = useState("");
  return (
    <>
      <Textarea
        {...inputStyle}
        fontFamily="mono"
        fontSize="12.5px"
        rows={5}
        readOnly={readOnly}
        aria-label={label}
        value={text}
        onChange={(e) => {
          setText(e.target.value);
          try {
            set(e.target.value.trim() === "" ? undefined : JSON.parse(e.target.value));
            setBad("");
          } catch (error) {
            setBad(String(error));
          }
        }}
      />
      {bad && <Text color="failure">✕ {bad}</Text>}
    </>
  );
}

/** A moment, shown in the reader's own zone and kept in UTC. */
function Moment({ value, set, label }: Control) {
  const { readOnly } = useContext(Form);
  let local = "";
  if (value) {
    const d = new Date(String(value));
    local = new Date(d.getTime() - d.getTimezoneOffset() * 60_000).toISOString().slice(0, 16);
  }
  return (
    <Input {...inputStyle} w="230px" type="datetime-local" readOnly={readOnly} aria-label={label} value={local} onChange={(e) => set(e.target.value === "" ? undefined : new Date(e.target.value).toISOString().replace(".000", ""))} />
  );
}

function One(c: Control): ReactNode {
  const { readOnly, model } = useContext(Form);
  const { field, value, set, label } = c;
  const text = value === undefined || value === null ? "" : String(value);
  const take = (v: string) => set(v === "" ? undefined : v);
  switch (field.kind) {
    case "prose":
      return <Textarea {...inputStyle} rows={Math.min(14, 3 + text.length / 60)} readOnly={readOnly} aria-label={label} value={text} onChange={(e) => take(e.target.value)} />;
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
    case "file":
      return <Parts of={field.kind} {...c} />;
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

/** The buttons that move and take out one of several values. */
function Order({ list, i, set }: { list: unknown[]; i: number; set: (v: unknown) => void }) {
  const { readOnly } = useContext(Form);
  if (readOnly) return null;
  const move = (to: number) => {
    const next = [...list];
    [next[i], next[to]] = [next[to], next[i]];
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
        aria-label="Take out"
        onClick={() => {
          const next = list.filter((_, j) => j !== i);
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
  return (
    <Flex direction="column" gap="2">
      {list.map((b, i) => {
        const type = field.inner?.find((t) => t.name === b.block);
        return (
          <Box key={i} borderWidth="1px" borderColor="line" bg="paper" p="3" data-block={String(b.block)}>
            <Flex justify="space-between" mb="1">
              <Text color="faint" fontSize="12px" fontWeight="600">
                {type?.label ?? String(b.block)}
              </Text>
              <Order list={list} i={i} set={set} />
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
  if (field.kind === "blocks") return <BlocksOf {...c} />;
  if (!field.several) return <One {...c} />;
  const list = (c.value ?? []) as unknown[];
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
    const next = v === undefined ? list.filter((_, j) => j !== i) : list.map((x, j) => (j === i ? v : x));
    set(next.length ? next : undefined);
  };
  return (
    <Flex direction="column" gap="1.5">
      {list.map((v, i) => (
        <Flex key={i} gap="2" align={field.kind === "record" ? "start" : "center"}>
          <Box flex="1">
            <One field={field} value={v} set={(x) => put(i, x)} path={`${path}[${i}]`} label={`${label} ${i + 1}`} inList />
          </Box>
          <Order list={list} i={i} set={set} />
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
  const { locales, wrong, readOnly, model } = useContext(Form);
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
    <Box py="2.5" data-field={field.name}>
      <Flex gap="2" mb="1" align="baseline">
        <Text fontWeight="600" fontSize="13px">
          {label}
        </Text>
        <Text color={field.deprecated ? "warning" : "faint"} fontSize="12px">
          {field.deprecated ? "deprecated: " + field.deprecated : said(field)}
        </Text>
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
                <Values field={field} value={per[tag]} set={(v) => put(tag, v)} path={`${path}.${tag}`} label={`${label}, ${name(tag)}`} />
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
