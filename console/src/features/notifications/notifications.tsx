import { Flex, Input, Text } from "@chakra-ui/react";
import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { call, key, type Notification, type Setting } from "../../api";
import { useWho } from "../../lib/who";
import { Act, Cell, Empty, Failure, inputStyle, Loaded, Page, Row, Rows, SameByCommand, Section, When } from "../../ui";
import { RecordWindow } from "../records/record";

const blank = { server: "mail.skerry.example:587", from: "Skerry Line <line@skerry.example>", user: "line", password: "secret:mail", digestAt: "07:00", zone: "Europe/Oslo" };

/** Through which server mail is sent, to whom, and what was sent. */
export function NotificationsPage() {
  const who = useWho();
  const [editing, setEditing] = useState<{ path: string; what: string; name?: string; initial?: unknown; help: string }>();
  const [to, setTo] = useState(who.kind === "account" ? who.name : "");
  const settings = useQuery({ queryKey: key("records-of", "settings"), queryFn: ({ signal }) => call<{ items: Setting[] }>("/settings", { signal }) });
  const targets = useQuery({ queryKey: key("records-of", "targets"), queryFn: ({ signal }) => call<{ items: Setting[] }>("/targets", { signal }) });
  const sent = useQuery({ queryKey: key("notifications"), queryFn: ({ signal }) => call<{ items: Notification[] }>("/notifications", { signal }) });
  const test = useMutation({ mutationFn: () => call("/mail/test", { method: "POST", body: { to } }) });
  const server = settings.data?.items.find((s) => s.kind === "mail");
  const spec = server?.spec as { server?: string; from?: string; tls?: string; off?: boolean } | undefined;
  const mail = { path: "/settings", what: "mail server", name: server ? "mail" : undefined, initial: blank, help: "server is host:port; tls is starttls (the default), tls or none; the password is a secret." };
  return (
    <Page title="Mail" says="Who is told of what">
      <Section title="Mail server" actions={<Act onClick={() => setEditing(mail)}>{server ? "Edit…" : "Set it up…"}</Act>}>
        <Loaded query={settings}>
          {() =>
            !spec ? (
              <Empty>No mail is sent so far. Set up a server, so that approvers hear of what waits for them; name the record mail.</Empty>
            ) : (
              <>
                <Text>
                  {spec.from} through {spec.server}
                  {spec.off ? ", off" : ""}
                </Text>
                <Flex gap="2" mt="2">
                  <Input {...inputStyle} w="280px" aria-label="Address of the test message" value={to} onChange={(e) => setTo(e.target.value)} />
                  <Act h="31px" loading={test.isPending} disabled={!to} onClick={() => test.mutate()}>
                    Send a test message
                  </Act>
                </Flex>
                <Failure error={test.error} />
                {test.isSuccess && (
                  <Text color="good" role="status">
                    ● The server took the message.
                  </Text>
                )}
              </>
            )
          }
        </Loaded>
      </Section>
      <Section title="Targets" actions={<Act onClick={() => setEditing({ path: "/targets", what: "target", initial: { description: "", mail: ["duty@skerry.example"] }, help: "A name for people: rules write it target:NAME." })}>Add a target…</Act>}>
        <Loaded query={targets}>
          {({ items }) =>
            items.length === 0 ? (
              <Empty>A target is a name for people, so that rules need not repeat their addresses.</Empty>
            ) : (
              <Rows label="Targets" head={["Target", "Mail", "Description", ""]}>
                {items.map((t) => {
                  const one = t.spec as { mail?: string[]; description?: string };
                  return (
                    <Row key={t.name} data-target={t.name}>
                      <Cell>{t.name}</Cell>
                      <Cell>{one.mail?.join(", ")}</Cell>
                      <Cell>{one.description}</Cell>
                      <Cell>
                        <Act onClick={() => setEditing({ path: "/targets", what: "target", name: t.name, help: "" })}>Edit…</Act>
                      </Cell>
                    </Row>
                  );
                })}
              </Rows>
            )
          }
        </Loaded>
      </Section>
      <Section title="What accounts were told">
        <Loaded query={sent}>
          {({ items }) =>
            items.length === 0 ? (
              <Empty>Nobody was told of anything yet. Who may approve is told when something is submitted for review.</Empty>
            ) : (
              <Rows label="What accounts were told" head={["At", "To", "Subject", "State"]}>
                {items.map((n) => (
                  <Row key={n.id} data-notification={n.event}>
                    <Cell>
                      <When at={n.at} />
                    </Cell>
                    <Cell>{n.email || "an account that is gone"}</Cell>
                    <Cell>{n.subject}</Cell>
                    <Cell>
                      <Text as="span" color={n.state === "failed" ? "failure" : n.state === "sent" ? "good" : "faint"}>
                        {n.state === "sent" ? "● sent" : n.state === "failed" ? "✕ " + n.error : n.daily ? "◷ with the daily mail" : "◷ waits"}
                      </Text>
                    </Cell>
                  </Row>
                ))}
              </Rows>
            )
          }
        </Loaded>
      </Section>
      {editing && <RecordWindow {...editing} close={() => setEditing(undefined)} />}
      <SameByCommand command="ubiquon mail sent" />
    </Page>
  );
}
