import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { call, key, refreshAll, type Secret } from "../../api";
import { Act, Cell, Empty, Failure, Fields, Loaded, Main, Mono, Page, Row, Rows, SameByCommand, TextField, useFields, When, Window } from "../../ui";

/** Values that are kept encrypted under a name. */
export function SecretsPage() {
  const queries = useQueryClient();
  const [setting, setSetting] = useState<string | null>();
  const secrets = useQuery({ queryKey: key("secrets"), queryFn: ({ signal }) => call<{ items: Secret[] }>("/secrets", { signal }) });
  const remove = useMutation({ mutationFn: (name: string) => call("/secrets/" + encodeURIComponent(name), { method: "DELETE" }), onSettled: () => refreshAll(queries) });
  return (
    <Page title="Secrets" says="Kept encrypted, and never shown again" actions={<Main onClick={() => setSetting(null)}>Add a secret</Main>}>
      <Failure error={remove.error} />
      <Loaded query={secrets}>
        {({ items }) =>
          items.length === 0 ? (
            <Empty>There is no secret yet. Passwords and signing secrets of sites, origins and mail are kept here, and written secret:NAME.</Empty>
          ) : (
            <Rows label="Secrets" head={["Secret", "Set", "By", "Used by", ""]}>
              {items.map((s) => (
                <Row key={s.name} data-secret={s.name}>
                  <Cell>
                    <Mono>secret:{s.name}</Mono>
                  </Cell>
                  <Cell>
                    <When at={s.at} />
                  </Cell>
                  <Cell>{s.by}</Cell>
                  <Cell>{s.usedBy.join(", ") || "–"}</Cell>
                  <Cell>
                    <Act onClick={() => setSetting(s.name)}>Change…</Act>{" "}
                    {s.usedBy.length === 0 && (
                      <Act loading={remove.isPending} onClick={() => remove.mutate(s.name)}>
                        Remove
                      </Act>
                    )}
                  </Cell>
                </Row>
              ))}
            </Rows>
          )
        }
      </Loaded>
      {setting !== undefined && <SecretWindow name={setting ?? ""} close={() => setSetting(undefined)} />}
      <SameByCommand command="ubiquon secret list" />
    </Page>
  );
}

function SecretWindow({ name, close }: { name: string; close: () => void }) {
  const queries = useQueryClient();
  const fields = useFields({ name, value: "" });
  async function save(v: { name: string; value: string }) {
    await call("/secrets/" + encodeURIComponent(v.name.trim()), { method: "PUT", body: { value: v.value } });
    await refreshAll(queries);
    close();
  }
  return (
    <Window title={name ? `Change ${name}` : "A new secret"} open close={close} actions={<Main type="submit" form="secret" loading={fields.formState.isSubmitting}>Keep it</Main>}>
      <Fields of={fields} submit={save} id="secret">
        {!name && <TextField name="name" label="Name" placeholder="slipway-build" rules={{ required: "It needs a name." }} />}
        <TextField name="value" label="Value" type="password" autoComplete="off" rules={{ required: "It needs a value." }} help="It is encrypted, and never shown again." />
      </Fields>
    </Window>
  );
}
