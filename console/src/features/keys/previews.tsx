import { Text } from "@chakra-ui/react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "react-router";
import { call, key, type PreviewLink, refreshAll } from "../../api";
import { Act, Cell, Empty, Failure, Loaded, Mono, Page, Row, Rows, SameByCommand, When } from "../../ui";
import { useWho } from "../../lib/who";

/** The preview links that have not expired, and how to end them. */
export function PreviewsPage() {
  const queries = useQueryClient();
  const who = useWho();
  const links = useQuery({ queryKey: key("previews"), queryFn: ({ signal }) => call<{ items: PreviewLink[] }>("/previews", { signal }) });
  const revoke = useMutation({ mutationFn: (id: string) => call("/previews/" + id, { method: "DELETE" }), onSettled: () => refreshAll(queries) });
  return (
    <Page title="Preview links" says="Who has one reads one entry in preview, without signing in">
      <Failure error={revoke.error} />
      <Loaded query={links}>
        {(a) =>
          a.items.length === 0 ? (
            <Empty>There are none. Open an entry and choose “Preview” to make one; it is good for an hour.</Empty>
          ) : (
            <Rows label="Preview links" head={["Entry", "Made by", "Reads", "Expires", "Last used", "State", ""]}>
              {a.items.map((l) => (
                <Row key={l.id} data-preview={l.id}>
                  <Cell>
                    <Link to={"/entries/" + l.entry}>{l.title || l.entry}</Link>{" "}
                    <Mono color="faint">
                      {l.type} {l.locale}
                    </Mono>
                  </Cell>
                  <Cell>{l.by}</Cell>
                  <Cell>{l.waysBack ? "it, what it shows, and what refers to it" : "it, and what it shows"}</Cell>
                  <Cell>
                    <When at={l.expires} />
                  </Cell>
                  <Cell>
                    <When at={l.used} />
                  </Cell>
                  <Cell>{l.revoked ? "– revoked" : "● active"}</Cell>
                  <Cell right>{!l.revoked && (who.may.administer || l.by === who.name) && <Act onClick={() => revoke.mutate(l.id)}>Revoke</Act>}</Cell>
                </Row>
              ))}
            </Rows>
          )
        }
      </Loaded>
      <Text color="faint" mt="3">
        A link reads what its maker may read, and loses what its maker loses.
      </Text>
      <SameByCommand command="ubiquon preview list" />
    </Page>
  );
}
