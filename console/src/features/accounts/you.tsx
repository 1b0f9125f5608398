import { Field, Flex, Input, Text } from "@chakra-ui/react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState, type FormEvent } from "react";
import { call, key, refreshAll, type Session } from "../../api";
import { Act, Cell, Failure, inputStyle, Loaded, Main, Mono, Page, Row, Rows, Section, When } from "../../ui";
import { useWho } from "../../app/session";

/** What a browser calls itself, in few words; whatever else it is, as it says. */
function programOf(agent: string) {
  const program = /(Firefox|Edg|OPR|Chrome|Version)\/(\d+)/.exec(agent);
  const system = /Windows|Android|iPhone|iPad|Mac OS X|Linux/.exec(agent);
  if (!program || !system) return agent || "–";
  const name = { Edg: "Edge", OPR: "Opera", Version: "Safari" }[program[1]!] ?? program[1];
  return `${name} ${program[2]} on ${system[0].replace("Mac OS X", "macOS")}`;
}

/** One's own account: where one is signed in, and one's password. */
export function YouPage() {
  const queries = useQueryClient();
  const who = useWho();
  const sessions = useQuery({ queryKey: key("sessions"), queryFn: ({ signal }) => call<{ items: Session[]; here: string }>("/sessions", { signal }) });
  const end = useMutation({ mutationFn: (id: string) => call("/sessions/" + id, { method: "DELETE" }), onSettled: () => refreshAll(queries) });
  return (
    <Page title="Your account" says={who.name}>
      <Section title="Where you are signed in">
        <Failure error={end.error} />
        <Loaded query={sessions}>
          {(a) => (
            <Rows label="Sessions" head={["With", "From", "Since", "Last seen", "Ends", ""]}>
              {a.items.map((s) => (
                <Row key={s.id} data-session={s.id}>
                  <Cell>
                    <Text maxW="340px" truncate title={s.agent}>
                      {programOf(s.agent)}
                    </Text>
                  </Cell>
                  <Cell>
                    <Mono>{s.address}</Mono>
                  </Cell>
                  <Cell>
                    <When at={s.created} />
                  </Cell>
                  <Cell>
                    <When at={s.seen} />
                  </Cell>
                  <Cell>
                    <When at={s.expires} />
                  </Cell>
                  <Cell right>{s.id === a.here ? "● this one" : <Act onClick={() => end.mutate(s.id)}>End</Act>}</Cell>
                </Row>
              ))}
            </Rows>
          )}
        </Loaded>
      </Section>
      <Section title="Your password">
        <ChangePassword />
      </Section>
    </Page>
  );
}

function ChangePassword() {
  const queries = useQueryClient();
  const [password, setPassword] = useState("");
  const [next, setNext] = useState("");
  const change = useMutation({
    mutationFn: () => call("/session/password", { method: "POST", body: { password, new: next } }),
    onSuccess: () => {
      setPassword("");
      setNext("");
      return refreshAll(queries);
    },
  });
  function submit(e: FormEvent) {
    e.preventDefault();
    change.mutate();
  }
  return (
    <form onSubmit={submit}>
      <Flex gap="3" align="end" wrap="wrap">
        <Field.Root w="240px">
          <Field.Label>Present password</Field.Label>
          <Input {...inputStyle} type="password" name="present" autoComplete="current-password" value={password} onChange={(e) => setPassword(e.target.value)} />
        </Field.Root>
        <Field.Root w="240px">
          <Field.Label>New password</Field.Label>
          <Input {...inputStyle} type="password" name="next" autoComplete="new-password" value={next} onChange={(e) => setNext(e.target.value)} />
        </Field.Root>
        <Main type="submit" loading={change.isPending} disabled={!password || next.length < 12}>
          Change it
        </Main>
      </Flex>
      <Text color="faint" fontSize="12px" mt="2" role="status">
        {change.isSuccess ? "Your password is changed, and your other sessions have ended." : "12 characters at least. Your other sessions end with it."}
      </Text>
      <Failure error={change.error} />
    </form>
  );
}
