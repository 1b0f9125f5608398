import { Box, Flex, Text } from "@chakra-ui/react";
import { ArrowDown, ArrowUp, Plus } from "lucide-react";
import { useState, type ReactNode } from "react";
import { useNavigate, useParams } from "react-router";
import type { Field, Type } from "../../api";
import { useModel } from "../../lib/use-model";
import { Act, Cell, Empty, Loaded, Main, Mono, Page, Row, Rows, SameByCommand, Section, toast } from "../../ui";
import { Consequences } from "./consequences";
import { FieldWindow } from "./field-window";
import { useModelDraft } from "./model-draft";
import { TypeWindow } from "./type-window";

export function TypePage() {
  const { name = "" } = useParams();
  const model = useModel();
  const { draft, set } = useModelDraft();
  const navigate = useNavigate();
  const [editing, setEditing] = useState<number | "new" | null>(null);
  const [settings, setSettings] = useState(false);
  const m = draft?.model ?? model.data;
  const type = m?.types.find((t) => t.name === name);
  const present = model.data?.types.find((t) => t.name === name || t.name === type?.was);
  const put = (t: Type) => m && set({ ...m, types: m.types.map((x) => (x.name === name ? t : x)) });
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
                if (m) set({ ...m, types: m.types.filter((t) => t.name !== name) });
                toast.done(`${type.label} is removed from the draft. Nothing is lost before it is applied.`);
                navigate("/types");
              }}
            >
              Remove
            </Act>
            <Main onClick={() => setEditing("new")}>
              <Plus size={14} /> Field
            </Main>
          </Flex>
        )
      }
    >
      {draft && model.data && <Consequences of={draft} present={model.data} />}
      <Loaded query={model}>
        {() =>
          !type || !m ? (
            <Empty>There is no type {name}.</Empty>
          ) : (
            <>
              <Flex columnGap="7" rowGap="1" mb="4" color="faint" wrap="wrap">
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
                      <Cell head>
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
                          <Act aria-label={"Change " + f.name} onClick={() => setEditing(i)}>
                            Change
                          </Act>
                        </Flex>
                      </Cell>
                    </Row>
                  ))}
                </Rows>
              </Section>
              {m.types.some((t) => t.fields.some((f) => f.inverse && f.types?.includes(name))) && (
                <Section title="Back-references">
                  <Rows label="Back-references" head={["Read as", "Lists", "By its field"]}>
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
