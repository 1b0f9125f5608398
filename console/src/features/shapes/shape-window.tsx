import { Flex } from "@chakra-ui/react";
import { useState } from "react";
import { ownTypes, type Model, type Shape } from "../../api";
import { Fields, Labelled, Main, TextField, TickField, useFields, Window } from "../../ui";

type Values = { name: string; help: string; of: Record<string, boolean> };

/** What a shape is called, and of which types it is. */
export function ShapeWindow({ model, shape, close, save }: { model: Model; shape: Shape; close: () => void; save: (s: Shape) => void }) {
  const fields = useFields<Values>({ name: shape.name, help: shape.help ?? "", of: Object.fromEntries(ownTypes(model).map((t) => [t.name, shape.of.includes(t.name)])) });
  const taken = (model.shapes ?? []).filter((s) => s.name !== shape.name).map((s) => s.name);
  const [none, setNone] = useState(false);
  function submit(v: Values) {
    const of = ownTypes(model).flatMap((t) => (v.of[t.name] ? [t.name] : []));
    if (of.length === 0) return setNone(true);
    const gone = (by?: Record<string, string>) => by && Object.fromEntries(Object.entries(by).filter(([type]) => of.includes(type)));
    save({ name: v.name, help: v.help || undefined, of, fields: shape.fields.map((f) => ({ ...f, by: gone(f.by) })) });
    close();
  }
  return (
    <Window
      title={shape.name ? "Settings of " + shape.name : "New shape"}
      open
      close={close}
      actions={
        <Main type="submit" form="shape">
          Done
        </Main>
      }
    >
      <Fields id="shape" of={fields} submit={submit}>
        <TextField
          name="name"
          label="Name"
          fontFamily="mono"
          autoFocus={!shape.name}
          help="Front ends ask for it by this: a-z, 0-9 and hyphens"
          rules={{ validate: (v: string) => (!/^[a-z][a-z0-9]*(-[a-z0-9]+)*$/.test(v) ? "A name has small letters, digits and hyphens between them, a letter first." : taken.includes(v) ? `There is a shape ${v} already; choose another name.` : true) }}
        />
        <TextField name="help" label="Help" help="What it is for" />
        <Labelled name="of" label="Entries of" error={none ? "Choose a type at least." : undefined}>
          <Flex gap="4" wrap="wrap">
            {ownTypes(model).map((t) => (
              <TickField key={t.name} name={"of." + t.name} label={t.label} />
            ))}
          </Flex>
        </Labelled>
      </Fields>
    </Window>
  );
}
