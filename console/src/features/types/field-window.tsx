import { Box, Flex, Input, Text } from "@chakra-ui/react";
import { lazy, Suspense, useState } from "react";
import { Controller, useFieldArray, useFormContext } from "react-hook-form";
import { ArrowDown, ArrowUp, Plus, X } from "lucide-react";
import { kinds, ownTypes, type Field, type Model, type Type } from "../../api";
import { Act, Fields, inputStyle, Labelled, Main, PickField, Skeletons, TextField, TickField, useFields, Window } from "../../ui";
import { fieldOf, has, valuesOf, type FieldValues } from "./field-values";
import { InnerFields } from "./inner-fields";

const SourceEditor = lazy(() => import("../../code/source"));

/** The options of a choice, with their label in each locale. */
function Options({ model }: { model: Model }) {
  const { control, register } = useFormContext<FieldValues>();
  const rows = useFieldArray({ control, name: "options" });
  const locales = model.locales.filter((l) => !l.retired);
  return (
    <Labelled name="options" label="Options" help="The value stands in the content and in filters; the labels are what people see.">
      <Box w="full" role="group" aria-label="Options">
        {rows.fields.map((row, i) => (
          <Flex key={row.id} gap="2" mb="1.5" align="center" data-option={row.value}>
            <Input {...inputStyle} fontFamily="mono" w="150px" flex="none" placeholder="value" aria-label={`Option ${i + 1}, value`} {...register(`options.${i}.value`)} />
            {locales.map((l, nth) => (
              <Input key={l.tag} {...inputStyle} minW="0" placeholder={l.name || l.tag} aria-label={`Option ${i + 1}, label in ${l.name || l.tag}`} {...register(nth === 0 ? `options.${i}.label` : `options.${i}.labels.${l.tag}`)} />
            ))}
            <Act aria-label={`Move option ${i + 1} up`} disabled={i === 0} onClick={() => rows.move(i, i - 1)}>
              <ArrowUp size={13} />
            </Act>
            <Act aria-label={`Move option ${i + 1} down`} disabled={i === rows.fields.length - 1} onClick={() => rows.move(i, i + 1)}>
              <ArrowDown size={13} />
            </Act>
            <Act aria-label={`Remove option ${i + 1}`} onClick={() => rows.remove(i)}>
              <X size={13} />
            </Act>
          </Flex>
        ))}
        <Act onClick={() => rows.append({ value: "", label: "", labels: {} })}>
          <Plus size={13} /> Option
        </Act>
      </Box>
    </Labelled>
  );
}

/** A value in JSON, with its mistake in place. */
function JSONField({ name, label, help }: { name: "default" | "schema" | "renditions"; label: string; help: string }) {
  const { control } = useFormContext<FieldValues>();
  return (
    <Controller
      control={control}
      name={name}
      rules={{
        validate: (text) => {
          try {
            if (text.trim()) JSON.parse(text);
            return true;
          } catch (e) {
            return e instanceof Error ? e.message : String(e);
          }
        },
      }}
      render={({ field, fieldState }) => (
        <Labelled name={name} label={label} help={help} error={fieldState.error?.message}>
          <Box w="full">
            <Suspense fallback={<Skeletons />}>
              <SourceEditor label={label} kind="json" value={field.value} onChange={field.onChange} minHeight={name === "default" ? "34px" : "90px"} maxHeight="220px" />
            </Suspense>
          </Box>
        </Labelled>
      )}
    />
  );
}

/** Everything that can be said of a field, as far as its kind has use for it. */
export function FieldWindow({ model, type, field, known, close, save, remove, nested = false }: { model: Model; type: Type; field: Field; known: boolean; close: () => void; save: (f: Field) => void; remove?: () => void; nested?: boolean }) {
  const fields = useFields<FieldValues>(valuesOf(field));
  const [inner, setInner] = useState<Type[]>(field.inner ?? []);
  const now = fields.watch();
  const is = (...of: string[]) => has(now.kind, ...of);
  function submit(v: FieldValues) {
    save(fieldOf(v, field, { known, inner, locale: model.locales.find((l) => !l.retired)?.tag ?? "en" }));
    close();
  }
  const id = nested ? "inner-field" : "field";
  return (
    <Window
      wide
      title={field.name ? `Field ${type.name ? type.name + "." : ""}${field.name}` : "New field of " + (type.label || type.name || "the record")}
      open
      close={close}
      actions={
        <>
          {remove && (
            <Act
              h="8"
              color="failure"
              onClick={() => {
                remove();
                close();
              }}
            >
              Remove
            </Act>
          )}
          <Main type="submit" form={id}>
            Done
          </Main>
        </>
      }
    >
      <Fields id={id} of={fields} submit={submit}>
        <TextField
          name="name"
          label="Name"
          fontFamily="mono"
          autoFocus={!field.name}
          help={known && now.name !== field.name ? "Renamed: values are kept." : "Letters and digits, a small letter first"}
          rules={{ validate: (v: string) => (!/^[a-z][A-Za-z0-9]*$/.test(v) ? "A name has letters and digits, a small letter first." : v !== field.name && type.fields.some((x) => x.name === v) ? `There is a field ${v} already; choose another name.` : true) }}
        />
        <PickField name="kind" label="Kind">
          {kinds
            .filter((k) => !nested || !["slug", "blocks", "record"].includes(k))
            .map((k) => (
              <option key={k}>{k}</option>
            ))}
        </PickField>
        <Flex gap="5" wrap="wrap" mb="3">
          <TickField name="required" label="Required" />
          {!nested && <TickField name="translated" label="Translated" />}
          {!is("blocks", "slug") && <TickField name="several" label="List of values" />}
          {!nested && is("text", "integer", "decimal", "date", "datetime") && <TickField name="unique" label="Unique" />}
          {!nested && !is("prose", "file", "location", "json", "record", "blocks") && <TickField name="indexed" label="Indexed: lists are filtered or sorted by it" />}
        </Flex>
        {is("reference") && (
          <>
            <Labelled name="types" label="Allowed types">
              <Flex gap="4" wrap="wrap">
                {ownTypes(model).map((t) => (
                  <TickField key={t.name} name={`types.${t.name}`} label={t.label} />
                ))}
              </Flex>
            </Labelled>
            {!nested && <TextField name="inverse" label="Back-reference" fontFamily="mono" help="How those entries list the ones that refer to them" />}
          </>
        )}
        {is("file") && (
          <>
            <TextField name="media" label="Allowed media types" fontFamily="mono" placeholder="image/*" help="Parted by commas; nothing: every file" />
            <Flex gap="3">
              <TextField name="maxBytes" label="Bytes, at most" type="number" min={1} />
              <TextField name="minWidth" label="Pixels wide, at least" type="number" min={1} />
            </Flex>
            <JSONField name="renditions" label="Renditions" help='Forms that are read by name, as in {"card": {"width": 600, "height": 400, "fit": "cover"}}' />
          </>
        )}
        {is("choice") && <Options model={model} />}
        {is("slug") && (
          <PickField name="madeFrom" label="Generated from">
            <option value="">nothing: it is written by hand</option>
            {type.fields
              .filter((x) => x.kind === "text")
              .map((x) => (
                <option key={x.name}>{x.name}</option>
              ))}
          </PickField>
        )}
        {(is("text", "integer", "decimal", "money", "blocks") || now.several) && (
          <Flex gap="3">
            <TextField name="min" label={(now.several || is("blocks") ? "How many" : is("text") ? "Characters" : "Value") + ", at least"} type="number" step="any" />
            <TextField name="max" label="At most" type="number" step="any" rules={{ validate: (v: string, all) => v === "" || all.min === "" || Number(v) >= Number(all.min) || "It is less than the least." }} />
          </Flex>
        )}
        {is("text") && <TextField name="pattern" label="Pattern" fontFamily="mono" help="An expression (RE2) that the whole value matches" />}
        {is("json") && <JSONField name="schema" label="JSON Schema" help="Of the version 2020-12; nothing: any JSON" />}
        {is("record", "blocks") && <InnerFields kind={now.kind} inner={inner} set={setInner} model={model} />}
        <TextField name="label" label="Label" placeholder={now.name} />
        <TextField name="help" label="Help" />
        {!nested && <JSONField name="default" label="Default" help='In JSON, as in "text", 3 or true: what readers get where an entry has no value' />}
        <TextField name="deprecated" label="Deprecated" help="Why it should not be used any more" />
        {now.deprecated && <TextField name="deprecatedSince" label="Since" type="date" help="Readers are told" />}
        {now.deprecated && <TextField name="sunset" label="Until" type="date" help="The day on which it will be gone, if that is known" />}
        {is("record", "blocks") && inner.every((t) => t.fields.length === 0) && <Text color="warning">◐ It has no field within it yet.</Text>}
      </Fields>
    </Window>
  );
}
