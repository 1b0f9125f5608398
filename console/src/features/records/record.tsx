import { Box, Input, Text } from "@chakra-ui/react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { lazy, Suspense, useState } from "react";
import { call, key, refreshAll, type SavedSetting } from "../../api";
import { fromYaml, toYaml } from "../../lib/yaml";
import { Act, Failure, inputStyle, Main, Window } from "../../ui";

const SourceEditor = lazy(() => import("../../code/source"));

/** One record of the configuration, as YAML, in a window: to be edited, made, or removed. It may begin with a text that was tried elsewhere. */
export function RecordWindow({ path, what, name, called, initial, text, close, saved: told, help }: { path: string; what: string; name?: string; called?: string; initial?: unknown; text?: string; close: () => void; saved?: () => void; help?: string }) {
  const saved = useQuery({ queryKey: key("record", path, name), enabled: name !== undefined, queryFn: ({ signal }) => call<SavedSetting>(`${path}/${encodeURIComponent(name ?? "")}`, { signal }), staleTime: Infinity, gcTime: 0 });
  return (
    <>
      {name === undefined && <Editor path={path} what={what} called={called} initial={initial} text={text} version={0} close={close} saved={told} help={help} />}
      {name !== undefined && saved.error && (
        <Window title={name} open close={close}>
          <Failure error={saved.error} />
        </Window>
      )}
      {name !== undefined && saved.data && <Editor path={path} what={what} name={name} initial={saved.data.spec} text={text} saved={told} version={saved.data.version} by={saved.data.by} close={close} help={help} />}
    </>
  );
}

function Editor({ path, what, name, called: suggested, initial, text: begun, version, by, close, saved, help }: { path: string; what: string; name?: string; called?: string; initial: unknown; text?: string; version: number; by?: string; close: () => void; saved?: () => void; help?: string }) {
  const queries = useQueryClient();
  const [called, setCalled] = useState(name ?? suggested ?? "");
  const [text, setText] = useState(() => begun ?? toYaml(initial));
  const [removing, setRemoving] = useState(false);
  const at = `${path}/${encodeURIComponent(called.trim())}`;
  const done = {
    onSuccess: async () => {
      saved?.();
      await refreshAll(queries);
      close();
    },
  };
  const save = useMutation({
    mutationFn: async () => call<SavedSetting>(at, { method: "PUT", headers: version ? { "If-Match": `"${version}"` } : { "If-None-Match": "*" }, body: fromYaml(text) }),
    ...done,
  });
  const remove = useMutation({ mutationFn: () => call(at, { method: "DELETE" }), ...done });
  return (
    <Window
      title={name ?? `A new ${what}`}
      wide
      open
      close={close}
      actions={
        <>
          {version > 0 && (removing ? <Main bg="failure" loading={remove.isPending} onClick={() => remove.mutate()}>Remove {what} {name}</Main> : <Act onClick={() => setRemoving(true)}>Remove…</Act>)}
          <Main disabled={!called.trim()} loading={save.isPending} onClick={() => save.mutate()}>
            Save
          </Main>
        </>
      }
    >
      <Failure error={save.error ?? remove.error} />
      {name === undefined && (
        <Box mb="3">
          <Text as="label" fontSize="13px" display="block">
            Name
            <Input {...inputStyle} value={called} onChange={(e) => setCalled(e.target.value)} placeholder="as in skerry-web" />
          </Text>
        </Box>
      )}
      {help && (
        <Text color="faint" mb="2">
          {help}
        </Text>
      )}
      <Suspense fallback={<Box h="240px" />}>
        <SourceEditor label={`The ${what} as YAML`} kind="yaml" value={text} onChange={setText} minHeight="240px" />
      </Suspense>
      {version > 0 && (
        <Text color="faint" fontSize="13px" mt="1">
          Version {version}, by {by}. Secrets are written secret:NAME.
        </Text>
      )}
    </Window>
  );
}
