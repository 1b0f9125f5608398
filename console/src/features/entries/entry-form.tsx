import { Box, Flex, Text } from "@chakra-ui/react";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useMemo, useRef, useState } from "react";
import { edit, type FieldEditor, type Fields, type Model, Problem, refreshAll } from "../../api";
import { byPath, Group } from "./fields";
import { Form } from "./form-context";
import { Failure, Main, Pick, Window } from "../../ui";
import { pruned } from "./pruned";

/** Chooses the locales that are edited: a source, and perhaps a target beside it. */
export function LocalePair({ model, source, target, onChange }: { model: Model; source: string; target: string; onChange: (source: string, target: string) => void }) {
  const active = model.locales.filter((l) => !l.retired);
  if (active.length < 2) return null;
  return (
    <Flex gap="2" align="center" wrap="wrap" mb="2" position="sticky" top={{ base: "44px", lg: "0" }} bg="paper" py="2" zIndex="1" borderBottomWidth="1px" borderColor="line">
      <Pick label="Source locale" value={source} onChange={(v) => onChange(v, target === v ? "" : target)}>
        {active.map((l) => (
          <option key={l.tag} value={l.tag}>
            {l.name || l.tag}
          </option>
        ))}
      </Pick>
      <Text color="faint">beside</Text>
      <Pick label="Target locale" value={target} onChange={(v) => onChange(source, v)}>
        <option value="">no other</option>
        {active
          .filter((l) => l.tag !== source)
          .map((l) => (
            <option key={l.tag} value={l.tag}>
              {l.name || l.tag}
            </option>
          ))}
      </Pick>
      <Text color="faint" fontSize="12px">
        → copies a value over
      </Text>
    </Flex>
  );
}

/** The fields of an entry, with windows for entries that are made on the way. */
export function EntryForm({ model, typeName, value, set, source, target, readOnly = false, problem, broken, editing, touch }: { model: Model; typeName: string; value: Fields; set: (v: Fields) => void; source: string; target: string; readOnly?: boolean; problem?: unknown; broken?: (labels: string[]) => void; editing?: FieldEditor[]; touch?: (field: string) => void }) {
  const [making, setMaking] = useState<{ types: string[]; made: (id: string) => void } | null>(null);
  const type = model.types.find((t) => t.name === typeName);
  const wrong = problem instanceof Problem ? problem.body.problems : undefined;
  const unreadable = useRef(new Set<string>());
  const context = useMemo(
    () => ({
      model,
      editing: editing ?? [],
      touch: touch ?? (() => {}),
      unreadable: (label: string, is: boolean) => {
        if (unreadable.current.has(label) === is) return;
        if (is) unreadable.current.add(label);
        else unreadable.current.delete(label);
        broken?.([...unreadable.current]);
      },
      locales: target ? [source, target] : [source], readOnly, wrong: byPath(wrong), create: (types: string[], made: (id: string) => void) => setMaking({ types, made }) }),
    [model, source, target, readOnly, wrong, editing, touch, broken],
  );
  if (!type) return <Text color="failure">There is no type {typeName} any more.</Text>;
  return (
    <Form.Provider value={context}>
      <Group type={type} value={value} set={set} />
      {making && (
        <MakeWindow
          model={model}
          types={making.types}
          close={() => setMaking(null)}
          made={(id) => {
            making.made(id);
            setMaking(null);
          }}
        />
      )}
    </Form.Provider>
  );
}

/** Writes an entry that is wanted while another one is edited. */
function MakeWindow({ model, types, close, made }: { model: Model; types: string[]; close: () => void; made: (id: string) => void }) {
  const queries = useQueryClient();
  const [type, setType] = useState(types[0] ?? "");
  const [fields, setFields] = useState<Fields>({});
  const save = useMutation({
    mutationFn: () => edit({ type, save: pruned(fields) }),
    onSuccess: (out) => made(out.entries[0]!.id),
    onSettled: () => refreshAll(queries),
  });
  const source = model.locales.find((l) => !l.retired)?.tag ?? "en";
  return (
    <Window
      wide
      title={"New " + (model.types.find((t) => t.name === type)?.label ?? type)}
      open
      close={close}
      actions={
        <Main loading={save.isPending} onClick={() => save.mutate()}>
          Save draft and choose it
        </Main>
      }
    >
      {types.length > 1 && (
        <Pick label="Type" value={type} onChange={setType}>
          {types.map((t) => (
            <option key={t}>{t}</option>
          ))}
        </Pick>
      )}
      <EntryForm model={model} typeName={type} value={fields} set={setFields} source={source} target="" problem={save.error} />
      <Box>
        <Failure error={save.error} />
      </Box>
    </Window>
  );
}
