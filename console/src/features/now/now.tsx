import { liveText } from "../sites/liveness";
import { Box, Flex, SimpleGrid, Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { call, key, type Status } from "../../api";
import { EventRows } from "../events/event-rows";
import { bytesText, Empty, Figure, Loaded, Mono, Page, SameByCommand, Section, spanText, State, When } from "../../ui";
import { History } from "../../ui/history";
import { Waiting } from "./waiting";

export function NowPage() {
  const status = useQuery({ queryKey: key("status"), queryFn: ({ signal }) => call<Status>("/status", { signal }) });
  return (
    <Page title="Now" says={status.data && `sequence ${status.data.sequence}, model ${status.data.modelVersion}`}>
      <Loaded query={status}>
        {(s) => {
          const asked = s.cache.hits + s.cache.misses + s.cache.joined;
          return (
            <>
              {s.problems.length > 0 && (
                <Section title="Problems">
                  <Box as="ul" aria-label="Problems" listStyleType="none">
                    {s.problems.map((p) => (
                      <Box as="li" key={p.what} py="2" borderBottomWidth="1px" borderColor="line" data-problem>
                        <Text color="failure">
                          ✕ {p.what}
                          {p.since && (
                            <Box as="span" color="faint">
                              {" "}
                              since <When at={p.since} />
                            </Box>
                          )}
                        </Text>
                        {p.mend && <Text fontSize="13px">→ {p.mend.startsWith("ubiquon ") ? <Mono>{p.mend}</Mono> : p.mend}</Text>}
                      </Box>
                    ))}
                  </Box>
                </Section>
              )}
              <SimpleGrid columns={{ base: 2, md: 3, lg: 5 }} gap="5" mb="7">
                <Figure name="Reads" value={s.requests.toLocaleString("en")} says={`since ${new Date(s.since).toLocaleTimeString("en-GB")}`} />
                <Figure name="From the cache" value={asked ? ((100 * s.cache.hits) / asked).toFixed(1) + " %" : "–"} says={`${s.cache.responses} answers, ${bytesText(s.cache.bytes)}`} />
                <Figure name="Time of a read" value={s.requests ? spanText(s.p50ms) : "–"} says={`99 % under ${spanText(s.p99ms)}`} />
                <Figure name="Publish to fresh answer" value={spanText(s.freshness.answerP50ms)} says={`95 % under ${spanText(s.freshness.answerP95ms)}`} />
                <Figure name="Publish to built site" value={spanText(s.freshness.builtP50ms)} says={`95 % under ${spanText(s.freshness.builtP95ms)}`} />
              </SimpleGrid>
              <Waiting />
              <Section title="Last events">
                {s.events.length === 0 ? (
                  <Empty>
                    Nothing has been announced yet. Publish something in an origin: its hook goes to <code>/hooks/&#123;origin&#125;</code>, and the event shows up here.
                  </Empty>
                ) : (
                  <EventRows label="Last events" events={s.events} />
                )}
              </Section>
              <History of="reads" title="Reads" />
              <SimpleGrid columns={{ base: 1, lg: 2 }} gap="8">
                <Section title="Sites">
                  {s.sites.length === 0 && <Empty>No site is connected yet; see Sites.</Empty>}
                  {s.sites.map((site) => (
                    <Flex key={site.name} gap="3" py="1.5" borderBottomWidth="1px" borderColor="line">
                      <Link to="/sites">{site.name}</Link>
                      <Text color={site.liveness?.late ? "warning" : "faint"} flex="1">
                        {site.liveness && liveText(site.liveness)}
                      </Text>
                      {site.builds?.[0] ? (
                        <>
                          <span>build {site.builds[0].number}</span>
                          <State of={site.builds[0].state} />
                        </>
                      ) : (
                        <Text color="faint">{site.build ? "not built yet" : site.refresh ? "refreshed page by page" : "kept fresh by nothing"}</Text>
                      )}
                    </Flex>
                  ))}
                </Section>
                <Section title="Origins">
                  {s.origins.length === 0 && <Empty>No origin is configured; see origins.yaml.</Empty>}
                  {s.origins.map((o) => (
                    <Flex key={o.name} gap="3" py="1.5" borderBottomWidth="1px" borderColor="line">
                      <span>{o.name}</span>
                      <Box flex="1" />
                      <Text color="faint">
                        {o.error && (
                          <Box as="span" color="failure">
                            ✕ cannot be read{o.nextTry && <>, next try <When at={o.nextTry} /></>}{" "}
                          </Box>
                        )}
                        {o.missing && (
                          <Box as="span" color="warning">
                            ◐ not configured, {o.entries} entries{" "}
                          </Box>
                        )}
                        {o.untaken > 0 && (
                          <Box as="span" color="failure">
                            ✕ {o.untaken} not imported{" "}
                          </Box>
                        )}
                        last heard <When at={o.lastEvent} />
                        {o.lastRefused && (
                          <Box as="span" color="failure">
                            {" "}
                            ⊘ last refused <When at={o.lastRefused} />
                          </Box>
                        )}
                      </Text>
                    </Flex>
                  ))}
                </Section>
              </SimpleGrid>
              <SameByCommand command="ubiquon status" />
            </>
          );
        }}
      </Loaded>
    </Page>
  );
}
