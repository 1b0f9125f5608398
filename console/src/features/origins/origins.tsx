import { Box, Input, Link, Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link as To, useNavigate } from "react-router";
import { call, key, type OriginState } from "../../api";
import { useWho } from "../../lib/who";
import { Act, Cell, Empty, inputStyle, Loaded, Main, Page, Row, Rows, SameByCommand, Section, When } from "../../ui";
import { RecordWindow } from "../records/record";
import { blank, help } from "./blank";

/** How reading an origin goes, with a sign and a word. */
export function OriginHealth({ origin }: { origin: OriginState }) {
  const [colour, text] = origin.missing ? ["faint", "– not configured"] : origin.standby ? ["faint", "○ stands by"] : origin.error ? ["failure", "✕ " + origin.error] : ["good", "● fine"];
  return (
    <Text as="span" color={colour}>
      {text}
    </Text>
  );
}

function CaptureAny() {
  const go = useNavigate();
  const [name, setName] = useState("");
  return (
    <Section title="Does another system call already?">
      <Text color="faint" mb="2">
        Give it a name, see what it sends, and make its configuration of that. Its calls go to /hooks/ and the name.
      </Text>
      <form
        onSubmit={(e) => {
          e.preventDefault();
          if (name.trim()) void go("/origins/" + encodeURIComponent(name.trim()));
        }}
      >
        <Input {...inputStyle} w="260px" mr="2" aria-label="Name of the new origin" placeholder="as in harbour-master" value={name} onChange={(e) => setName(e.target.value)} />
        <Act type="submit" size="sm">
          See what it sends
        </Act>
      </form>
    </Section>
  );
}

/** Where content comes from, and how reading it goes. */
export function OriginsPage() {
  const who = useWho();
  const [adding, setAdding] = useState(false);
  const origins = useQuery({ queryKey: key("origins"), queryFn: ({ signal }) => call<{ items: OriginState[] }>("/origins", { signal }) });
  return (
    <Page title="Origins" says="Where content comes from" actions={who.may.administer && <Main onClick={() => setAdding(true)}>Add an origin</Main>}>
      <Loaded query={origins}>
        {({ items }) =>
          items.length === 0 ? (
            <Empty>Everything is written here so far. Add an origin to take content over from another system.</Empty>
          ) : (
            <Rows label="Origins" head={["Origin", "From", "State", "Entries", "Not taken", "Read last", "Heard last", "Compared"]} numbers={["Entries", "Not taken"]}>
              {items.map((o) => (
                <Row key={o.name} data-origin={o.name}>
                  <Cell>
                    <Link asChild color="accent">
                      <To to={"/origins/" + encodeURIComponent(o.name)}>{o.name}</To>
                    </Link>
                  </Cell>
                  <Cell>{o.from ?? "–"}</Cell>
                  <Cell>
                    <OriginHealth origin={o} />
                  </Cell>
                  <Cell right>{o.entries}</Cell>
                  <Cell right>{o.untaken}</Cell>
                  <Cell>{o.lastSuccess ? <When at={o.lastSuccess} /> : "–"}</Cell>
                  <Cell>{o.lastEvent ? <When at={o.lastEvent} /> : "–"}</Cell>
                  <Cell>{o.compared ? <When at={o.compared.at} /> : "–"}</Cell>
                </Row>
              ))}
            </Rows>
          )
        }
      </Loaded>
      {who.may.administer && (
        <Box mt="7">
          <CaptureAny />
        </Box>
      )}
      {adding && <RecordWindow path="/origins" what="origin" initial={blank} close={() => setAdding(false)} help={help} />}
      <SameByCommand command="ubiquon origin list" />
    </Page>
  );
}
