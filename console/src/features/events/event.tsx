import { Box, Flex, Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { useParams } from "react-router";
import { call, type EventDetail, key } from "../../api";
import { BuildRows } from "../sites/build-rows";
import { Cell, CopyButton, Empty, EntryLink, Loaded, Mono, Page, Row, Rows, SameByCommand, Section, State, When } from "../../ui";
import { pretty } from "../../lib/pretty";
import { TraceFull } from "../../ui/trace";

export function EventPage() {
  const { id = "" } = useParams();
  const event = useQuery({ queryKey: key("event", id), queryFn: ({ signal }) => call<EventDetail>("/events/" + encodeURIComponent(id), { signal }) });
  return (
    <Page title="Event" says={event.data && <State of={event.data.state} />}>
      <Loaded query={event}>
        {(e) => (
          <>
            <Flex gap="7" mb="5" wrap="wrap" color="faint">
              <span>
                {e.decoded?.kind ?? "not readable"} by {e.origin} {e.decoded?.key && <Mono color="ink">{`${e.decoded.originKind}/${e.decoded.key}`}</Mono>}
              </span>
              <span>
                entry <EntryLink id={e.entry} title={e.title} />
              </span>
              <span>{e.sequence !== null && <>sequence <Mono color="ink">{e.sequence}</Mono></>}</span>
              <span>
                <Mono>{e.id}</Mono>
                <CopyButton text={e.id} label="the id" />
              </span>
            </Flex>
            {e.detail && e.detail !== e.decoded?.kind && (
              <Text mb="4" color={e.state === "failed" || e.state === "refused" ? "failure" : "ink"}>
                {e.detail}
                {e.attempts > 1 && `, at attempt ${e.attempts}`}
              </Text>
            )}
            <Section title="Its way">
              <TraceFull trace={e.trace} />
              {e.pages && (
                <Text color="faint" mt="2" fontSize="13px">
                  Seen by visitors on {e.pages.seen} of {e.pages.seen + e.pages.waiting} pages that were looked at.
                </Text>
              )}
            </Section>
            <Section title="Rules">
              {e.rules?.length ? (
                <Rows label="Rules" head={["Rule", "Fired", "Why", "Sequence", "At"]}>
                  {e.rules.map((r) => (
                    <Row key={r.rule + r.sequence}>
                      <Cell>{r.rule}</Cell>
                      <Cell>{r.fired ? "● yes" : "○ no"}</Cell>
                      <Cell>{r.reason}</Cell>
                      <Cell>
                        <Mono>{r.sequence}</Mono>
                      </Cell>
                      <Cell>
                        <When at={r.at} />
                      </Cell>
                    </Row>
                  ))}
                </Rows>
              ) : (
                <Empty>No rule has looked at it: nothing changed that the public could see.</Empty>
              )}
            </Section>
            <Section title="Builds">
              {e.builds.length ? (
                <BuildRows label="Builds" builds={e.builds} />
              ) : (
                <Empty>No build was asked for.</Empty>
              )}
            </Section>
            <Section title="As it arrived">
              <Box as="pre" fontFamily="mono" fontSize="12.5px" bg="sheet" borderWidth="1px" borderColor="line" p="4" overflowX="auto">
                {pretty(e.body)}
              </Box>
            </Section>
            <SameByCommand command={"ubiquon event show " + e.id} />
          </>
        )}
      </Loaded>
    </Page>
  );
}
