import { Flex } from "@chakra-ui/react";
import type { Type } from "../../api";
import { Fields, Main, TextField, TickField, useFields, Window } from "../../ui";

type Values = { name: string; label: string; plural: string; help: string; path: string; home: string; title: string; deprecated: string; deprecatedSince: string; sunset: string; singleton: boolean; approval: boolean };

const texts = ["label", "plural", "help", "path", "home", "title", "deprecated", "deprecatedSince", "sunset"] as const;

/** What a type is called, where its entries live, and how they are published. */
export function TypeWindow({ type, taken, close, save }: { type: Type; taken: string[]; close: () => void; save: (t: Type) => void }) {
  const fields = useFields<Values>({ name: type.name, singleton: !!type.singleton, approval: !!type.approval, ...(Object.fromEntries(texts.map((k) => [k, type[k] ?? ""])) as Record<(typeof texts)[number], string>) });
  const now = fields.watch();
  function submit(v: Values) {
    const given = Object.fromEntries(texts.map((k) => [k, v[k] || undefined]));
    save({ ...type, ...given, name: v.name, label: v.label || v.name, plural: v.plural || v.name + "s", singleton: v.singleton || undefined, approval: v.approval || undefined });
    close();
  }
  return (
    <Window
      wide
      title={type.name ? "Settings of " + type.label : "New type"}
      open
      close={close}
      actions={
        <Main type="submit" form="type">
          Done
        </Main>
      }
    >
      <Fields id="type" of={fields} submit={submit}>
        <TextField
          name="name"
          label="Name"
          fontFamily="mono"
          autoFocus={!type.name}
          help="a-z, 0-9 and hyphens"
          rules={{ validate: (v: string) => (!/^[a-z][a-z0-9]*(-[a-z0-9]+)*$/.test(v) ? "A name has small letters, digits and hyphens between them, a letter first." : taken.includes(v) ? `There is a type ${v} already; choose another name.` : true) }}
        />
        <TextField name="label" label="Label" help="What people call it" />
        {!now.singleton && <TextField name="plural" label="Plural name" placeholder={now.name ? now.name + "s" : "its plural"} fontFamily="mono" />}
        <TextField name="help" label="Help" />
        {!type.paths && <TextField name="path" label="Path" placeholder="/notices/{slug}, or nothing" fontFamily="mono" />}
        {now.path && <TextField name="home" label="Home" help="The slug of the entry that lives at /" />}
        {type.name !== "" && <TextField name="title" label="Title field" help="The field that people know an entry by" />}
        <TextField name="deprecated" label="Deprecated" help="Why it should not be used any more" />
        {now.deprecated && <TextField name="deprecatedSince" label="Since" type="date" help="Readers are told" />}
        {now.deprecated && <TextField name="sunset" label="Until" type="date" help="The day on which it will be gone, if that is known" />}
        <Flex gap="6" wrap="wrap">
          <TickField name="singleton" label="Only one entry" />
          <TickField name="approval" label="Published after approval only" />
        </Flex>
      </Fields>
    </Window>
  );
}
