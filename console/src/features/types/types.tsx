import { Flex, Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { call, key, type Status, ownTypes } from "../../api";
import { useModel } from "../../lib/use-model";
import { Act, Cell, Empty, Loaded, Main, Mono, Page, Row, Rows, SameByCommand } from "../../ui";
import { AsFile } from "./as-file";
import { Consequences } from "./consequences";
import { useModelDraft } from "./model-draft";
import { TypeWindow } from "./type-window";

export function TypesPage() {
  const model = useModel();
  const { draft, set } = useModelDraft();
  const status = useQuery({ queryKey: key("status"), queryFn: ({ signal }) => call<Status>("/status", { signal }) });
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
          const m = draft?.model ?? present;
          return (
            <>
              {draft && <Consequences of={draft} present={present} />}
              {asFile ? (
                <AsFile model={m} />
              ) : ownTypes(m).length === 0 ? (
                <Empty>There is no type yet. Make one with New type, or apply model files: ubiquon model apply DIR.</Empty>
              ) : (
                <Rows label="Types" head={["Type", "Name", "Plural", "Path", "Fields", "Entries"]} numbers={["Fields", "Entries"]}>
                  {ownTypes(m).map((t) => (
                    <Row key={t.name} data-type={t.name}>
                      <Cell head>
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
                    set({ ...m, types: [...m.types, t] });
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
