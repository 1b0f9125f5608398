import { Text } from "@chakra-ui/react";
import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { call, key, type CallAnswer, type OriginState } from "../../api";
import { useWho } from "../../lib/who";
import { Act, Cell, Empty, Failure, Loaded, Main, Page, Row, Rows, SameByCommand, When } from "../../ui";
import { Answers } from "../records/answers";
import { RecordWindow } from "../records/record";

const blank = { pull: { http: "https://office.skerry.example/api" }, prove: { standardWebhooks: ["secret:NAME"] }, types: {} };

function OneOrigin({ origin, edit }: { origin: OriginState; edit: () => void }) {
  const who = useWho();
  const test = useMutation({ mutationFn: () => call<{ items: CallAnswer[] }>(`/origins/${encodeURIComponent(origin.name)}/test`, { method: "POST" }) });
  return (
    <Row data-origin={origin.name}>
      <Cell>
        {origin.name}
        <Failure error={test.error} />
        {test.data && <Answers of={test.data.items} />}
      </Cell>
      <Cell>
        <Text as="span" color={origin.missing ? "faint" : origin.error ? "failure" : "good"}>
          {origin.missing ? "– not configured" : origin.error ? "✕ " + origin.error : "● fine"}
        </Text>
      </Cell>
      <Cell right>{origin.entries}</Cell>
      <Cell right>{origin.untaken}</Cell>
      <Cell>{origin.lastSuccess ? <When at={origin.lastSuccess} /> : "–"}</Cell>
      <Cell>{origin.lastEvent ? <When at={origin.lastEvent} /> : "–"}</Cell>
      <Cell>
        {who.may.administer && !origin.missing && (
          <>
            <Act loading={test.isPending} onClick={() => test.mutate()}>
              Read it now
            </Act>{" "}
            <Act onClick={edit}>Edit…</Act>
          </>
        )}
      </Cell>
    </Row>
  );
}

/** Where content comes from, and how reading it goes. */
export function OriginsPage() {
  const who = useWho();
  const [editing, setEditing] = useState<string | null | undefined>();
  const origins = useQuery({ queryKey: key("origins"), queryFn: ({ signal }) => call<{ items: OriginState[] }>("/origins", { signal }) });
  return (
    <Page title="Origins" says="Where content comes from" actions={who.may.administer && <Main onClick={() => setEditing(null)}>Add an origin</Main>}>
      <Loaded query={origins}>
        {({ items }) =>
          items.length === 0 ? (
            <Empty>Everything is written here so far. Add an origin to take content over from another system.</Empty>
          ) : (
            <Rows label="Origins" head={["Origin", "State", "Entries", "Not taken", "Read last", "Heard last", ""]} numbers={["Entries", "Not taken"]}>
              {items.map((o) => (
                <OneOrigin key={o.name} origin={o} edit={() => setEditing(o.name)} />
              ))}
            </Rows>
          )
        }
      </Loaded>
      {editing !== undefined && <RecordWindow path="/origins" what="origin" name={editing ?? undefined} initial={blank} close={() => setEditing(undefined)} help="How its content is read, how its announcements are proven, and which of its items become entries of which type." />}
      <SameByCommand command="ubiquon origin list" />
    </Page>
  );
}
