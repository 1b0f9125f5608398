import { Flex, Input, Text } from "@chakra-ui/react";
import { ArrowDown, ArrowUp, Plus, X } from "lucide-react";
import { useState } from "react";
import { useNavigate, useParams } from "react-router";
import type { Shape, ShapeField } from "../../api";
import { useModel } from "../../lib/use-model";
import { useWho } from "../../lib/who";
import { Act, Cell, Empty, inputStyle, Loaded, Main, Mono, Page, Row, Rows, SameByCommand, Section, toast } from "../../ui";
import { Consequences } from "../types/consequences";
import { useModelDraft } from "../types/model-draft";
import { LiveResult } from "./live-result";
import { ShapeWindow } from "./shape-window";

const selection = (f: ShapeField, type: string) => f.by?.[type] ?? f.each ?? "";

/** The member with another selection for a type: one for all where they are the same. */
function withSelection(f: ShapeField, of: string[], type: string, text: string): ShapeField {
  const all = of.map((t) => (t === type ? text : selection(f, t)));
  if (all.every((t) => t === all[0])) return { name: f.name, each: all[0] };
  return { name: f.name, by: Object.fromEntries(of.flatMap((t, i) => (all[i] ? [[t, all[i]!]] : []))) };
}

function Members({ shape, put, label, readOnly }: { shape: Shape; put: (s: Shape) => void; label: (type: string) => string; readOnly: boolean }) {
  const fields = shape.fields;
  const change = (i: number, f: ShapeField) => put({ ...shape, fields: fields.map((x, j) => (j === i ? f : x)) });
  const move = (i: number, to: number) => {
    const next = [...fields];
    [next[i], next[to]] = [next[to]!, next[i]!];
    put({ ...shape, fields: next });
  };
  return (
    <Rows label="Members" head={["Member", ...shape.of.map((t) => "of " + label(t)), ""]}>
      {fields.map((f, i) => (
        <Row key={i} data-member={f.name}>
          <Cell head>
            <Input {...inputStyle} readOnly={readOnly} fontFamily="mono" minW="110px" aria-label={`Member ${i + 1}`} value={f.name} onChange={(e) => change(i, { ...f, name: e.target.value })} />
          </Cell>
          {shape.of.map((t) => (
            <Cell key={t}>
              <Input {...inputStyle} readOnly={readOnly} fontFamily="mono" minW="150px" aria-label={`${f.name} of ${t}`} placeholder="null" value={selection(f, t)} onChange={(e) => change(i, withSelection(f, shape.of, t, e.target.value))} />
            </Cell>
          ))}
          <Cell right>
            {!readOnly && (
              <Flex gap="1" justify="end">
              <Act aria-label={`Move ${f.name} up`} disabled={i === 0} onClick={() => move(i, i - 1)}>
                <ArrowUp size={13} />
              </Act>
              <Act aria-label={`Move ${f.name} down`} disabled={i === fields.length - 1} onClick={() => move(i, i + 1)}>
                <ArrowDown size={13} />
              </Act>
              <Act aria-label={`Remove ${f.name}`} onClick={() => put({ ...shape, fields: fields.filter((_, j) => j !== i) })}>
                <X size={13} />
              </Act>
            </Flex>
            )}
          </Cell>
        </Row>
      ))}
    </Rows>
  );
}

/** One shape: what each member is in each type, beside what an entry looks like in it. */
export function ShapePage() {
  const { name = "" } = useParams();
  const model = useModel();
  const { draft, set } = useModelDraft();
  const who = useWho();
  const navigate = useNavigate();
  const [settings, setSettings] = useState(false);
  const m = draft?.model ?? model.data;
  const shape = m?.shapes?.find((s) => s.name === name);
  const put = (s: Shape) => m && set({ ...m, shapes: (m.shapes ?? []).map((x) => (x.name === name ? s : x)) });
  const label = (type: string) => m?.types.find((t) => t.name === type)?.label ?? type;
  return (
    <Page
      title={name}
      says={shape?.help}
      actions={
        shape &&
        who.may.administer && (
          <Flex gap="2">
            <Act onClick={() => setSettings(true)}>Settings…</Act>
            <Act
              color="failure"
              onClick={() => {
                if (m) set({ ...m, shapes: (m.shapes ?? []).filter((s) => s.name !== name) });
                toast.done(`${name} is removed from the draft. Front ends have it until that is applied.`);
                navigate("/shapes");
              }}
            >
              Remove
            </Act>
            <Main onClick={() => put({ ...shape, fields: [...shape.fields, { name: "member" + (shape.fields.length + 1), each: "" }] })}>
              <Plus size={14} /> Member
            </Main>
          </Flex>
        )
      }
    >
      {draft && model.data && <Consequences of={draft} present={model.data} />}
      <Loaded query={model}>
        {() =>
          !shape || !m ? (
            <Empty>There is no shape {name}.</Empty>
          ) : (
            <>
              <Text color="faint" mb="4">
                Read as <Mono color="ink">?shape={name}</Mono>, within others as <Mono color="ink">field(shape={name})</Mono>, and in GraphQL as <Mono color="ink">{graphqlName(name)}</Mono>. A member is one thing that is asked of the entry, written as in the parameter fields; where nothing stands it is null.
              </Text>
              <Section title="Members">{shape.fields.length === 0 ? <Empty>Give it a member: heading, for instance, which is title in one type and name in another.</Empty> : <Members shape={shape} put={put} label={label} readOnly={!who.may.administer} />}</Section>
              <LiveResult model={m} shape={shape} />
              {settings && (
                <ShapeWindow
                  model={m}
                  shape={shape}
                  close={() => setSettings(false)}
                  save={(s) => {
                    put(s);
                    navigate("/shapes/" + s.name, { replace: true });
                  }}
                />
              )}
            </>
          )
        }
      </Loaded>
      <SameByCommand command={"ubiquon shape show " + name} />
    </Page>
  );
}

/** The field by which entries have a shape in GraphQL. */
const graphqlName = (name: string) => "as" + name.split("-").map((w) => w.charAt(0).toUpperCase() + w.slice(1)).join("");
