import { Box, Flex, Input, Text } from "@chakra-ui/react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { lazy, Suspense, useState } from "react";
import { useSearchParams } from "react-router";
import { call, key, Problem, refreshAll, type Model, type SavedView } from "../api";
import { useWho } from "../lib/who";
import { Act, inputStyle, Main, Pick } from "./controls";
import { Fields, TextField, useFields } from "./form";
import { Failure } from "./page";
import { Window } from "./window";

const FilterEditor = lazy(() => import("../code/filter"));

/** A condition on a list, which is in force once it is run: with Ctrl-Enter or the button. */
export function FilterBar({ model, type, value, set, error, placeholder }: { model: Model | undefined; type: string; value: string; set: (text: string) => void; error: unknown; placeholder: string }) {
  const [typed, setTyped] = useState({ of: value, text: value });
  if (typed.of !== value) setTyped({ of: value, text: value });
  const text = typed.of === value ? typed.text : value;
  const setText = (next: string) => setTyped({ of: value, text: next });
  const [active, setActive] = useState(false);
  const plain = <Input {...inputStyle} h="31px" fontFamily="mono" fontSize="12.5px" aria-label="Filter" placeholder={placeholder} value={text} onFocus={() => setActive(true)} onChange={(e) => setText(e.target.value)} />;
  const at = error instanceof Problem && error.body.parameter === "filter" ? (error.body.at ?? 0) : -1;
  return (
    <Flex gap="2" mb="3" align="start" data-filter>
      <Box flex="1" minW="0">
        {/* The editor is loaded when somebody goes into the field. */}
        <Suspense fallback={plain}>
          {!active ? plain : <FilterEditor label="Filter" model={model} type={type} value={text} onChange={setText} onRun={() => set(text.trim())} wrong={at >= 0 && text === value ? [{ from: Math.max(0, at - 1), to: text.length, text: (error as Problem).message }] : undefined} placeholder={placeholder} />}
        </Suspense>
        {at >= 0 && text === value && (
          <Text color="failure" fontSize="13px" role="alert">
            ✕ {(error as Problem).message}
          </Text>
        )}
      </Box>
      <Act h="31px" disabled={text.trim() === value} onClick={() => set(text.trim())}>
        Filter
      </Act>
    </Flex>
  );
}

/** The views that are saved of a page's lists, to choose from, save and remove. */
export function Views({ page }: { page: "entries" | "events" | "audit" }) {
  const who = useWho();
  const queries = useQueryClient();
  const [params, setParams] = useSearchParams();
  const [saving, setSaving] = useState(false);
  const list = useQuery({ queryKey: key("views"), queryFn: ({ signal }) => call<{ items: SavedView[] }>("/views", { signal }) });
  const views = list.data?.items.filter((v) => v.page === page) ?? [];
  const now = [...params].filter(([name, v]) => v && name !== "offset");
  const same = (v: SavedView) => [...new URLSearchParams(v.query)].sort().join() === [...now].sort().join();
  const chosen = views.find(same);
  const settled = { onSettled: () => refreshAll(queries) };
  const remove = useMutation({ mutationFn: (id: string) => call("/views/" + id, { method: "DELETE" }), ...settled });
  const fields = useFields({ name: "" });
  const may = who.may.write || who.may.publish;
  if (views.length === 0 && (!may || now.length === 0)) return null;
  return (
    <Flex gap="2" align="center">
      {views.length > 0 && (
        <Pick label="Saved view" value={chosen?.id ?? ""} onChange={(id) => setParams(views.find((v) => v.id === id)?.query ?? "")} w="180px">
          <option value="">{chosen ? "everything" : "a saved view"}</option>
          {views.map((v) => (
            <option key={v.id} value={v.id}>
              {v.name}
            </option>
          ))}
        </Pick>
      )}
      {may && chosen && (
        <Act loading={remove.isPending} onClick={() => remove.mutate(chosen.id)}>
          Remove view
        </Act>
      )}
      {may && !chosen && now.length > 0 && <Act onClick={() => setSaving(true)}>Save view…</Act>}
      <Failure error={remove.error} />
      {saving && (
        <Window title="Save this view" open close={() => setSaving(false)} actions={<Main type="submit" form="view" disabled={!fields.watch("name").trim()} loading={fields.formState.isSubmitting}>Save view</Main>}>
          <Fields
            id="view"
            of={fields}
            whole="name"
            submit={async ({ name }) => {
              await call("/views", { method: "POST", body: { page, name, query: new URLSearchParams(now).toString() } });
              await refreshAll(queries);
              fields.reset();
              setSaving(false);
            }}
          >
            <TextField name="name" label="Name" autoFocus help="Everybody who may open this page can choose it. A view of the same name is replaced." />
          </Fields>
        </Window>
      )}
    </Flex>
  );
}
