import { Flex, Text } from "@chakra-ui/react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { type Account, call, key, refreshAll, roles } from "../../api";
import { Act, Cell, CopyButton, Failure, Fields, Loaded, Main, Mono, Page, Pick, PickField, Row, Rows, SameByCommand, TextField, useFields, When, Window } from "../../ui";
import { useWho } from "../../lib/who";

export function AccountsPage() {
  const queries = useQueryClient();
  const who = useWho();
  const accounts = useQuery({ queryKey: key("accounts"), queryFn: ({ signal }) => call<{ items: Account[] }>("/accounts", { signal }) });
  const [making, setMaking] = useState(false);
  const [link, setLink] = useState<{ email: string; address: string } | null>(null);
  const change = useMutation({ mutationFn: (c: { email: string; body: object }) => call("/accounts/" + encodeURIComponent(c.email), { method: "PATCH", body: c.body }), onSettled: () => refreshAll(queries) });
  const relink = useMutation({
    mutationFn: (email: string) => call<{ link: string }>("/accounts/" + encodeURIComponent(email) + "/link", { method: "POST" }),
    onSuccess: (out, email) => setLink({ email, address: out.link }),
  });
  return (
    <Page title="Accounts" says="Who may sign in here, and what they may do" actions={<Main onClick={() => setMaking(true)}>Add an account</Main>}>
      <Failure error={change.error ?? relink.error} />
      <Loaded query={accounts}>
        {(a) => (
          <Rows label="Accounts" head={["E-mail", "Name", "Role", "State", "Last signed in", ""]}>
            {a.items.map((one) => (
              <Row key={one.id} data-account={one.email}>
                <Cell head>
                  <Mono>{one.email}</Mono>
                </Cell>
                <Cell>{one.name}</Cell>
                <Cell>
                  <Pick label={"Role of " + one.email} value={one.role} onChange={(role) => change.mutate({ email: one.email, body: { role } })}>
                    {Object.keys(roles).map((r) => (
                      <option key={r}>{r}</option>
                    ))}
                  </Pick>
                </Cell>
                <Cell>{one.disabled ? "– disabled" : one.hasPassword ? "● active" : "◷ no password yet"}</Cell>
                <Cell>
                  <When at={one.signedIn} />
                </Cell>
                <Cell right>
                  <Flex gap="1" justify="end">
                    <Act onClick={() => relink.mutate(one.email)}>Link for a password</Act>
                    {one.email !== who.name && <Act onClick={() => change.mutate({ email: one.email, body: { disabled: !one.disabled } })}>{one.disabled ? "Enable" : "Disable"}</Act>}
                  </Flex>
                </Cell>
              </Row>
            ))}
          </Rows>
        )}
      </Loaded>
      <Text color="faint" mt="3">
        {Object.entries(roles).map(([r, says], i) => (
          <span key={r}>
            {i > 0 && " · "}
            <b>{r}</b> {says}
          </span>
        ))}
      </Text>
      <SameByCommand command="ubiquon account list" />
      {making && (
        <NewAccount
          close={() => setMaking(false)}
          made={(email, address) => {
            setMaking(false);
            setLink({ email, address });
          }}
        />
      )}
      {link && (
        <Window held title={"A link for " + link.email} open close={() => setLink(null)}>
          <Text mb="3">Hand it over. With it a password is chosen, once, within a week.</Text>
          <Flex align="center" gap="1">
            <Mono wordBreak="break-all" data-link>
              {link.address}
            </Mono>
            <CopyButton text={link.address} label="the link" />
          </Flex>
        </Window>
      )}
    </Page>
  );
}

function NewAccount({ close, made }: { close: () => void; made: (email: string, link: string) => void }) {
  const queries = useQueryClient();
  const fields = useFields({ email: "", name: "", role: "editor" });
  return (
    <Window
      title="Add an account"
      open
      close={close}
      actions={
        <Main type="submit" form="account" loading={fields.formState.isSubmitting} disabled={!fields.watch("email")}>
          Add
        </Main>
      }
    >
      <Fields
        id="account"
        of={fields}
        whole="email"
        submit={async (body) => {
          const out = await call<{ account: Account; link: string }>("/accounts", { method: "POST", body });
          void refreshAll(queries);
          made(out.account.email, out.link);
        }}
      >
        <TextField name="email" label="E-mail" type="email" autoFocus />
        <TextField name="name" label="Name" />
        <PickField name="role" label="Role">
          {Object.entries(roles).map(([r, says]) => (
            <option key={r} value={r}>
              {r}: {says}
            </option>
          ))}
        </PickField>
      </Fields>
    </Window>
  );
}
