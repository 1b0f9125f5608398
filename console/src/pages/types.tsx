import { Box, Flex, Input, Text, Textarea } from "@chakra-ui/react";
import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { ArrowDown, ArrowUp, Plus } from "lucide-react";
import { useEffect, useState, type ReactNode } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { call, kinds, stream, type Field, type Model, type Plan, type Status, type Type } from "../api";
import { draftBase, modelDraft, toFile, useModelDraft } from "../model-draft";
import { Act, Cell, Empty, Failure, inputStyle, Loaded, Main, Mono, Page, Pick, Row, Rows, SameByCommand, Section, Tick, Window } from "../parts";
import { useModel } from "../use-model";

const effects = {
  safe: { sign: "●", colour: "good" },
  "breaks reads": { sign: "◑", colour: "warning" },
  "needs a default": { sign: "◐", colour: "warning" },
  "loses data": { sign: "✕", colour: "failure" },
} as const;

/** What the changes would do, and the button that does it. */
function Consequences({ draft }: { draft: Model }) {
  const queries = useQueryClient();
  const file = toFile(draft);
  const [allowLoss, setAllowLoss] = useState(false);
  const [progress, setProgress] = useState("");
  const plan = useQuery({
    queryKey: ["plan", file],
    queryFn: ({ signal }) => call<Plan>("/model/plan", { method: "POST", body: { files: { "model.yaml": file } }, signal }),
    placeholderData: keepPreviousData,
    retry: false,
  });
  const base = plan.data && draftBase(plan.data.version);
  const overtaken = plan.data !== undefined && base !== plan.data.version;
  const apply = useMutation({
    mutationFn: () =>
      stream<{ done: number; total: number }>("/model/apply", { files: { "model.yaml": file }, allowLoss, ifVersion: base }, (p) => p.total && setProgress(`Converted ${p.done} of ${p.total} entries`)),
    onSuccess: async () => {
      await queries.invalidateQueries();
      modelDraft.set(null);
    },
  });
  const p = plan.error ? undefined : plan.data;
  return (
    <Box borderWidth="1px" borderColor="accent" bg="sheet" p="4" mb="5" data-plan={p ? String(p.consequences.length) : ""}>
      <Flex align="center" gap="3" mb="2">
        <Text fontWeight="600" flex="1">
          {p?.consequences.length === 0 ? "Nothing is changed yet." : "Not applied yet. This is what it would do:"}
        </Text>
        <Act onClick={() => modelDraft.set(null)}>Drop the changes</Act>
        <Main loading={apply.isPending} disabled={!p || p.consequences.length === 0 || p.conflicts.length > 0 || (p.loses && !allowLoss) || overtaken} onClick={() => apply.mutate()}>
          Apply
        </Main>
      </Flex>
      <Failure error={plan.error ?? apply.error} />
      {overtaken && (
        <Text color="warning" role="alert" mb="2">
          ◐ Somebody else has applied version {plan.data.version} of the model since you began with version {base}. Applying yours would undo that: take your changes as a file from below, drop them here, and make them again on the present model.
        </Text>
      )}
      {p && p.consequences.length > 0 && (
        <Rows label="Consequences" head={["Effect", "Where", "What", "Entries", ""]} numbers={["Entries"]}>
          {p.consequences.map((c, i) => (
            <Row key={i} data-effect={c.severity}>
              <Cell>
                <Box as="span" color={effects[c.severity].colour} whiteSpace="nowrap">
                  {effects[c.severity].sign} {c.severity}
                </Box>
              </Cell>
              <Cell>
                <Mono>{c.where}</Mono>
              </Cell>
              <Cell>{c.what}</Cell>
              <Cell right>{c.entries || "–"}</Cell>
              <Cell>
                {c.text}
                {c.readers.length > 0 && <Text color="warning">read by {c.readers.join(", ")}</Text>}
              </Cell>
            </Row>
          ))}
        </Rows>
      )}
      {p?.conflicts.map((c) => (
        <Text key={c} color="failure" mt="2" whiteSpace="pre-wrap">
          ✕ In the way: {c}
        </Text>
      ))}
      {p?.loses && (
        <Box mt="3">
          <Tick checked={allowLoss} onChange={setAllowLoss}>
            Apply it although content is lost
          </Tick>
        </Box>
      )}
      {progress && apply.isPending && (
        <Text mt="2" role="status">
          {progress}
        </Text>
      )}
    </Box>
  );
}

export function TypesPage() {
  const model = useModel();
  const draft = useModelDraft();
  const status = useQuery({ queryKey: ["status"], queryFn: ({ signal }) => call<Status>("/status", { signal }) });
  const [adding, setAdding] = useState(false);
  const [asFile, setAsFile] = useState(false);
  const navigate = useNavigate();
  return (
    <Page
      title="Types"
      says="What content there is, and what it is made of"
      actions={
        <Flex gap="2">
          <Act aria-pressed={asFile} onClick={() => setAsFile(!asFile)}>
            As a file
          </Act>
          <Main onClick={() => setAdding(true)}>New type</Main>
        </Flex>
      }
    >
      <Loaded query={model}>
        {(present) => {
          const m = draft ?? present;
          return (
            <>
              {draft && <Consequences draft={draft} />}
              {asFile ? (
                <AsFile model={m} />
              ) : m.types.length === 0 ? (
                <Empty>There is no type yet. Make one with New type, or apply model files: ubiquon model apply DIR.</Empty>
              ) : (
                <Rows label="Types" head={["Type", "Name", "Listed under", "Path", "Fields", "Entries"]} numbers={["Fields", "Entries"]}>
                  {m.types.map((t) => (
                    <Row key={t.name} data-type={t.name}>
                      <Cell>
                        <Link to={"/types/" + t.name}>{t.label}</Link>
                        {t.deprecated && <Text color="warning">deprecated: {t.deprecated}</Text>}
                      </Cell>
                      <Cell>
                        <Mono>{t.name}</Mono>
                      </Cell>
                      <Cell>{t.singleton ? "only one" : <Mono>{t.plural}</Mono>}</Cell>
                      <Cell>
                        <Mono>{t.path || t.paths?.[m.locales.find((l) => !l.retired)?.tag ?? ""] || "–"}</Mono>
                      </Cell>
                      <Cell right>{t.fields.length}</Cell>
                      <Cell right>
                        <Link to={"/entries?type=" + t.name}>{status.data?.entries[t.name] ?? 0}</Link>
                      </Cell>
                    </Row>
                  ))}
                </Rows>
              )}
              {adding && (
                <TypeWindow
                  type={{ name: "", plural: "", label: "", fields: [] }}
                  taken={m.types.map((t) => t.name)}
                  close={() => setAdding(false)}
                  save={(t) => {
                    modelDraft.set({ ...m, types: [...m.types, t] });
                    navigate("/types/" + t.name);
                  }}
                />
              )}
            </>
          );
        }}
      </Loaded>
      <SameByCommand command={draft ? "ubiquon model diff DIR && ubiquon model apply DIR" : "ubiquon model show"} />
    </Page>
  );
}

/** The model as YAML; what is typed becomes the draft as soon as it can be read. */
function AsFile({ model }: { model: Model }) {
  const file = toFile(model);
  const shown = useQuery({ queryKey: ["as-file", file], queryFn: ({ signal }) => call<Plan>("/model/plan", { method: "POST", body: { files: { "model.yaml": file } }, signal }), retry: false });
  const [text, setText] = useState<string | null>(null);
  const [wrong, setWrong] = useState<unknown>(null);
  useEffect(() => {
    if (text === null) return;
    const rested = setTimeout(
      () =>
        call<Plan>("/model/plan", { method: "POST", body: { files: { "model.yaml": text } } }).then(
          (p) => {
            setWrong(null);
            modelDraft.set(p.model);
          },
          (error) => setWrong(error),
        ),
      400,
    );
    return () => clearTimeout(rested);
  }, [text]);
  return (
    <>
      <Failure error={wrong} />
      <Textarea bg="sheet" borderColor={wrong ? "failure" : "line"} fontFamily="mono" fontSize="12.5px" rows={28} aria-label="The model as YAML" spellCheck={false} value={text ?? shown.data?.yaml ?? ""} onChange={(e) => setText(e.target.value)} />
    </>
  );
}

export function TypePage() {
  const { name = "" } = useParams();
  const model = useModel();
  const draft = useModelDraft();
  const navigate = useNavigate();
  const [editing, setEditing] = useState<number | "new" | null>(null);
  const [settings, setSettings] = useState(false);
  const m = draft ?? model.data;
  const type = m?.types.find((t) => t.name === name);
  const present = model.data?.types.find((t) => t.name === name || t.name === type?.was);
  const put = (t: Type) => m && modelDraft.set({ ...m, types: m.types.map((x) => (x.name === name ? t : x)) });
  return (
    <Page
      title={type?.label ?? name}
      says={type && <Mono>{type.name}</Mono>}
      actions={
        type && (
          <Flex gap="2">
            <Act onClick={() => setSettings(true)}>Settings…</Act>
            <Act
              color="failure"
              onClick={() => {
                if (m) modelDraft.set({ ...m, types: m.types.filter((t) => t.name !== name) });
                navigate("/types");
              }}
            >
              Take out
            </Act>
            <Main onClick={() => setEditing("new")}>
              <Plus size={14} /> Field
            </Main>
          </Flex>
        )
      }
    >
      {draft && <Consequences draft={draft} />}
      <Loaded query={model}>
        {() =>
          !type || !m ? (
            <Empty>There is no type {name}.</Empty>
          ) : (
            <>
              <Flex gap="7" mb="4" color="faint" wrap="wrap">
                <span>{type.singleton ? "only one entry" : <>listed under <Mono color="ink">{type.plural}</Mono></>}</span>
                {(type.path || type.paths) && (
                  <span>
                    lives at{" "}
                    <Mono color="ink">
                      {type.paths && Object.keys(type.paths).length
                        ? Object.entries(type.paths)
                            .map(([tag, p]) => `${tag} ${p}`)
                            .join(" · ")
                        : type.path}
                    </Mono>
                  </span>
                )}
                {type.title && (
                  <span>
                    known by <Mono color="ink">{type.title}</Mono>
                  </span>
                )}
                {type.approval && <span>published after approval only</span>}
              </Flex>
              <Section title="Fields, in the order of the form">
                <Rows label="Fields" head={["Field", "Kind", "Takes", "Is", ""]}>
                  {type.fields.map((f, i) => (
                    <Row key={f.name} data-field={f.name}>
                      <Cell>
                        <Mono>{f.name}</Mono>
                        {f.label && <Text color="faint">{f.label}</Text>}
                      </Cell>
                      <Cell>{f.kind}</Cell>
                      <Cell>{takes(f)}</Cell>
                      <Cell>
                        {[f.required && "required", f.translated && "translated", f.several && "several", f.unique && "unique", f.indexed && "indexed"].filter(Boolean).join(", ")}
                        {f.deprecated && <Text color="warning">deprecated: {f.deprecated}</Text>}
                      </Cell>
                      <Cell right>
                        <Flex gap="1" justify="end">
                          <Act aria-label={"Move " + f.name + " up"} disabled={i === 0} onClick={() => put({ ...type, fields: swapped(type.fields, i, i - 1) })}>
                            <ArrowUp size={13} />
                          </Act>
                          <Act aria-label={"Move " + f.name + " down"} disabled={i === type.fields.length - 1} onClick={() => put({ ...type, fields: swapped(type.fields, i, i + 1) })}>
                            <ArrowDown size={13} />
                          </Act>
                          <Act onClick={() => setEditing(i)}>Change</Act>
                        </Flex>
                      </Cell>
                    </Row>
                  ))}
                </Rows>
              </Section>
              {m.types.some((t) => t.fields.some((f) => f.inverse && f.types?.includes(name))) && (
                <Section title="Ways back: entries that refer here">
                  <Rows label="Ways back" head={["Read as", "Lists", "By its field"]}>
                    {m.types.flatMap((t) =>
                      t.fields
                        .filter((f) => f.inverse && f.types?.includes(name))
                        .map((f) => (
                          <Row key={t.name + f.name}>
                            <Cell>
                              <Mono>{f.inverse}</Mono>
                            </Cell>
                            <Cell>{t.label}</Cell>
                            <Cell>
                              <Mono>{f.name}</Mono>
                            </Cell>
                          </Row>
                        )),
                    )}
                  </Rows>
                </Section>
              )}
              {settings && (
                <TypeWindow
                  type={type}
                  taken={m.types.filter((t) => t.name !== name).map((t) => t.name)}
                  close={() => setSettings(false)}
                  save={(t) => {
                    put(t.name !== name && present ? { ...t, was: present.name } : t);
                    navigate("/types/" + t.name, { replace: true });
                  }}
                />
              )}
              {editing !== null && (
                <FieldWindow
                  model={m}
                  type={type}
                  field={editing === "new" ? { name: "", kind: "text" } : type.fields[editing]!}
                  known={editing !== "new" && !!present?.fields.some((f) => f.name === type.fields[editing]!.name)}
                  close={() => setEditing(null)}
                  save={(f) => put({ ...type, fields: editing === "new" ? [...type.fields, f] : type.fields.map((x, i) => (i === editing ? f : x)) })}
                  remove={editing === "new" ? undefined : () => put({ ...type, fields: type.fields.filter((_, i) => i !== editing) })}
                />
              )}
            </>
          )
        }
      </Loaded>
      <SameByCommand command={"ubiquon model show " + name} />
    </Page>
  );
}

function swapped<T>(list: T[], i: number, j: number): T[] {
  const next = [...list];
  [next[i], next[j]] = [next[j]!, next[i]!];
  return next;
}

function takes(f: Field): ReactNode {
  const out: ReactNode[] = [];
  if (f.options) out.push(f.options.map((o) => o.value).join(", "));
  if (f.types) out.push("→ " + f.types.join(", ") + (f.inverse ? `, back as ${f.inverse}` : ""));
  if (f.inner) out.push(f.kind === "blocks" ? f.inner.map((t) => t.name).join(", ") : f.inner[0]?.fields.map((x) => x.name).join(", "));
  if (f.madeFrom) out.push("made from " + f.madeFrom);
  if (f.min !== undefined || f.max !== undefined) out.push(`${f.min ?? "…"} to ${f.max ?? "…"}`);
  if (f.pattern) out.push(<Mono key="p">{f.pattern}</Mono>);
  if (f.default !== undefined) out.push("else " + JSON.stringify(f.default));
  if (f.schema) out.push("by its schema");
  if (f.marks?.length) out.push("also " + f.marks.join(", "));
  return out.map((x, i) => (
    <Box as="span" key={i} mr="3">
      {x}
    </Box>
  ));
}

function Line({ label, children }: { label: string; children: ReactNode }) {
  return (
    <Flex gap="3" mb="2.5" align="center">
      <Text w="130px" flex="none" color="faint">
        {label}
      </Text>
      <Box flex="1">{children}</Box>
    </Flex>
  );
}

function TypeWindow({ type, taken, close, save }: { type: Type; taken: string[]; close: () => void; save: (t: Type) => void }) {
  const [t, setT] = useState(type);
  const set = (part: Partial<Type>) => setT({ ...t, ...part });
  const bad = !/^[a-z][a-z0-9]*(-[a-z0-9]+)*$/.test(t.name) || taken.includes(t.name);
  const text = (label: string, key: "plural" | "label" | "help" | "path" | "home" | "title" | "deprecated" | "deprecatedSince" | "sunset", placeholder?: string) => (
    <Line label={label}>
      <Input {...inputStyle} aria-label={label} value={t[key] ?? ""} placeholder={placeholder} onChange={(e) => set({ [key]: e.target.value || undefined } as Partial<Type>)} />
    </Line>
  );
  return (
    <Window
      wide
      title={type.name ? "Settings of " + type.label : "New type"}
      open
      close={close}
      actions={
        <Main
          disabled={bad}
          onClick={() => {
            save({ ...t, label: t.label || t.name, plural: t.plural || t.name + "s" });
            close();
          }}
        >
          Keep
        </Main>
      }
    >
      <Line label="Name">
        <Input {...inputStyle} fontFamily="mono" aria-label="Name" value={t.name} placeholder="a-z, 0-9 and hyphens" onChange={(e) => set({ name: e.target.value })} />
      </Line>
      {text("Label", "label", "what people call it")}
      {!t.singleton && text("Listed under", "plural", t.name ? t.name + "s" : "its plural")}
      {text("Help", "help")}
      {!t.paths && text("Path", "path", "/notices/{slug}, or nothing")}
      {t.path && text("Home", "home", "slug of the entry that lives at /")}
      {type.name !== "" && text("Known by", "title", "a field")}
      {text("Deprecated", "deprecated", "why it should not be used any more")}
      {t.deprecated && text("Since", "deprecatedSince", "a day, as in 2026-11-23: readers are told")}
      {t.deprecated && text("Until", "sunset", "the day on which it will be gone, or nothing")}
      <Flex gap="6">
        <Tick checked={!!t.singleton} onChange={(v) => set({ singleton: v || undefined })}>
          Only one entry
        </Tick>
        <Tick checked={!!t.approval} onChange={(v) => set({ approval: v || undefined })}>
          Published after approval only
        </Tick>
      </Flex>
    </Window>
  );
}

function FieldWindow({ model, type, field, known, close, save, remove }: { model: Model; type: Type; field: Field; known: boolean; close: () => void; save: (f: Field) => void; remove?: () => void }) {
  const [f, setF] = useState<Field>(field);
  const [options, setOptions] = useState((field.options ?? []).map((o) => `${o.value}: ${o.label}`).join("\n"));
  const [json, setJSON] = useState({ default: field.default === undefined ? "" : JSON.stringify(field.default), schema: field.schema ? JSON.stringify(field.schema, null, 1) : "" });
  const [wrong, setWrong] = useState("");
  const set = (part: Partial<Field>) => setF({ ...f, ...part });
  const has = (...of: string[]) => of.includes(f.kind);
  const text = (label: string, key: "label" | "help" | "pattern" | "inverse" | "deprecated" | "deprecatedSince" | "sunset", placeholder?: string) => (
    <Line label={label}>
      <Input {...inputStyle} aria-label={label} placeholder={placeholder} value={f[key] ?? ""} onChange={(e) => set({ [key]: e.target.value || undefined } as Partial<Field>)} />
    </Line>
  );
  function keep() {
    const out: Field = { ...f };
    if (f.name !== field.name && type.fields.some((x) => x.name === f.name)) {
      setWrong(`There is a field ${f.name} already; choose another name.`);
      return;
    }
    if (known && f.name !== field.name) out.was = field.name;
    try {
      if (json.default) out.default = JSON.parse(json.default);
      else delete out.default;
      if (has("json") && json.schema) out.schema = JSON.parse(json.schema);
      else delete out.schema;
    } catch (error) {
      setWrong(String(error));
      return;
    }
    if (has("choice")) {
      out.options = options
        .split("\n")
        .map((l) => l.trim())
        .filter(Boolean)
        .map((l) => {
          const [value, ...label] = l.split(":");
          const old = field.options?.find((o) => o.value === value!.trim());
          const said = label.join(":").trim() || value!.trim();
          if (!old) return { value: value!.trim(), label: said };
          // The other locales keep theirs.
          const labels = old.labels && Object.keys(old.labels).length ? { ...old.labels, [model.locales.find((l) => !l.retired)?.tag ?? "en"]: said } : old.labels;
          return old.label === said ? old : { ...old, label: said, labels };
        });
    } else delete out.options;
    if (!has("reference")) {
      delete out.types;
      delete out.inverse;
    }
    if (!has("record", "blocks")) delete out.inner;
    if (has("record") && !out.inner) out.inner = [{ name: "", plural: "", label: "", fields: [{ name: "text", kind: "text" }] }];
    if (has("blocks") && !out.inner) out.inner = [{ name: "prose", plural: "", label: "Text", fields: [{ name: "text", kind: "prose" }] }];
    if (!has("slug")) delete out.madeFrom;
    if (!has("text")) delete out.pattern;
    if (!has("prose")) delete out.marks;
    if (has("blocks", "slug")) delete out.several;
    if (!has("text", "integer", "decimal", "date", "datetime", "slug")) delete out.unique;
    if (has("prose", "file", "location", "json", "record", "blocks")) delete out.indexed;
    if (f.kind !== field.kind) {
      // What bounded the values of one kind says nothing of those of another.
      delete out.min;
      delete out.max;
    }
    save(out);
    close();
  }
  return (
    <Window
      wide
      title={field.name ? `Field ${type.name}.${field.name}` : "New field of " + type.label}
      open
      close={close}
      actions={
        <>
          {remove && (
            <Act
              color="failure"
              onClick={() => {
                remove();
                close();
              }}
            >
              Take out
            </Act>
          )}
          <Main disabled={!/^[a-z][A-Za-z0-9]*$/.test(f.name)} onClick={keep}>
            Keep
          </Main>
        </>
      }
    >
      <Line label="Name">
        <Input {...inputStyle} fontFamily="mono" aria-label="Name" value={f.name} placeholder="letters and digits, a small letter first" onChange={(e) => set({ name: e.target.value })} />
        {known && f.name !== field.name && <Text color="faint">Renamed: values are kept.</Text>}
      </Line>
      <Line label="Kind">
        <Pick label="Kind" value={f.kind} onChange={(v) => set({ kind: v })}>
          {kinds.map((k) => (
            <option key={k}>{k}</option>
          ))}
        </Pick>
      </Line>
      <Line label="">
        <Flex gap="5" wrap="wrap">
          <Tick checked={!!f.required} onChange={(v) => set({ required: v || undefined })}>
            Required
          </Tick>
          <Tick checked={!!f.translated} onChange={(v) => set({ translated: v || undefined })}>
            Translated
          </Tick>
          {!has("blocks", "slug") && (
            <Tick checked={!!f.several} onChange={(v) => set({ several: v || undefined })}>
              Several, in order
            </Tick>
          )}
          {has("text", "integer", "decimal", "date", "datetime") && (
            <Tick checked={!!f.unique} onChange={(v) => set({ unique: v || undefined })}>
              Unique
            </Tick>
          )}
          {!has("prose", "file", "location", "json", "record", "blocks") && (
            <Tick checked={!!f.indexed} onChange={(v) => set({ indexed: v || undefined })}>
              Indexed: lists are filtered or sorted by it
            </Tick>
          )}
        </Flex>
      </Line>
      {has("reference") && (
        <>
          <Line label="Leads to">
            <Flex gap="4" wrap="wrap">
              {model.types.map((t) => (
                <Tick key={t.name} checked={!!f.types?.includes(t.name)} onChange={(v) => set({ types: v ? [...(f.types ?? []), t.name] : f.types?.filter((n) => n !== t.name) })}>
                  {t.label}
                </Tick>
              ))}
            </Flex>
          </Line>
          {text("Way back", "inverse", "how those entries list the ones that refer to them")}
        </>
      )}
      {has("choice") && (
        <Line label="Options">
          <Textarea {...inputStyle} rows={4} fontFamily="mono" fontSize="12.5px" aria-label="Options" placeholder={"value: Label\none a line"} value={options} onChange={(e) => setOptions(e.target.value)} />
        </Line>
      )}
      {has("slug") && (
        <Line label="Made from">
          <Pick label="Made from" value={f.madeFrom ?? ""} onChange={(v) => set({ madeFrom: v || undefined })}>
            <option value="">nothing: it is written by hand</option>
            {type.fields
              .filter((x) => x.kind === "text")
              .map((x) => (
                <option key={x.name}>{x.name}</option>
              ))}
          </Pick>
        </Line>
      )}
      {(has("text", "integer", "decimal", "money", "blocks") || f.several) && (
        <Line label={f.several || has("blocks") ? "How many" : has("text") ? "Characters" : "Value"}>
          <Flex gap="2" align="center">
            <Input {...inputStyle} w="110px" type="number" aria-label="At least" placeholder="at least" value={f.min ?? ""} onChange={(e) => set({ min: e.target.value === "" ? undefined : Number(e.target.value) })} />
            <Text color="faint">to</Text>
            <Input {...inputStyle} w="110px" type="number" aria-label="At most" placeholder="at most" value={f.max ?? ""} onChange={(e) => set({ max: e.target.value === "" ? undefined : Number(e.target.value) })} />
          </Flex>
        </Line>
      )}
      {has("text") && text("Pattern", "pattern", "an expression that the whole value matches")}
      {has("json") && (
        <Line label="JSON Schema">
          <Textarea {...inputStyle} rows={4} fontFamily="mono" fontSize="12.5px" aria-label="JSON Schema" value={json.schema} onChange={(e) => setJSON({ ...json, schema: e.target.value })} />
        </Line>
      )}
      {has("record", "blocks") && (
        <Line label="">
          <Text color="faint">What is within it is described under As a file, on the page Types.</Text>
        </Line>
      )}
      {text("Label", "label", f.name)}
      {text("Help", "help")}
      <Line label="Default">
        <Input {...inputStyle} fontFamily="mono" aria-label="Default" placeholder='as JSON: "text", 3, true' value={json.default} onChange={(e) => setJSON({ ...json, default: e.target.value })} />
      </Line>
      {text("Deprecated", "deprecated", "why it should not be used any more")}
      {f.deprecated && text("Since", "deprecatedSince", "a day, as in 2026-11-23: readers are told")}
      {f.deprecated && text("Until", "sunset", "the day on which it will be gone, or nothing")}
      {wrong && (
        <Text color="failure" role="alert">
          ✕ {wrong}
        </Text>
      )}
    </Window>
  );
}
