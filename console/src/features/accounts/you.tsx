import { Box, Text } from "@chakra-ui/react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { call, key, refreshAll, type Session } from "../../api";
import { Act, Cell, Failure, Fields, Loaded, Main, Mono, Page, Row, Rows, Section, TextField, toast, useFields, When } from "../../ui";
import { useWho } from "../../lib/who";
import { Told } from "./told";

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
      <Told />
      <Section title="Your password">
        <ChangePassword />
      </Section>
    </Page>
  );
}

function ChangePassword() {
  const queries = useQueryClient();
  const fields = useFields({ present: "", next: "" });
  return (
    <Box maxW="320px">
      <Fields
        of={fields}
        whole="present"
        submit={async ({ present, next }) => {
          await call("/session/password", { method: "POST", body: { password: present, new: next } });
          fields.reset();
          toast.done("Your password is changed, and your other sessions have ended.");
          await refreshAll(queries);
        }}
      >
        <TextField name="present" label="Present password" type="password" autoComplete="current-password" />
        <TextField name="next" label="New password" type="password" autoComplete="new-password" help="12 characters at least. Your other sessions end with it." />
        <Main type="submit" loading={fields.formState.isSubmitting} disabled={!fields.watch("present") || fields.watch("next").length < 12}>
          Change it
        </Main>
      </Fields>
    </Box>
  );
}
