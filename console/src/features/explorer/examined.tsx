import { Box, Flex, Text } from "@chakra-ui/react";
import { useState } from "react";
import { Link } from "react-router";
import { Editor } from "../../code/editor";
import { bytesText, CopyButton, EntryLink, Mono, spanText } from "../../ui";
import { madeOf, type Examined } from "../../lib/read";

const laps = [
  { name: "parse", key: "parse", shade: 0.35 },
  { name: "cache", key: "cache", shade: 0.5 },
  { name: "SQL", key: "sql", shade: 1 },
  { name: "lay out", key: "render", shade: 0.65 },
] as const;

/** Where the time went: one line, divided. */
function Times({ of: e }: { of: Examined }) {
  const l = e.milliseconds;
  return (
    <Box mt="2" mb="3" aria-label="Time">
      <Flex h="6px" gap="2px" mb="1">
        {laps.map((p) => (
          <Box key={p.key} bg="accent" opacity={p.shade} flexGrow={Math.max(l[p.key], l.all / 200)} flexBasis="0" borderRadius="1px" title={`${p.name}: ${spanText(l[p.key])}`} />
        ))}
      </Flex>
      <Flex gap="5" fontSize="12.5px" color="faint">
        {laps.map((p) => (
          <span key={p.key}>
            {p.name} <Mono color="ink">{spanText(l[p.key])}</Mono>
          </span>
        ))}
        <Box flex="1" />
        <span>
          altogether <Mono color="ink">{spanText(l.all)}</Mono>
        </span>
      </Flex>
    </Box>
  );
}

const pages = ["Dependencies", "Statements", "Headers"] as const;

/** An answer beside what it is made of. */
export function ExaminedView({ of: e, whyLink }: { of: Examined; whyLink?: string }) {
  const [page, setPage] = useState<(typeof pages)[number]>("Dependencies");
  const refused = e.key === "";
  const good = e.status < 400;
  let body = e.body;
  try {
    body = JSON.stringify(JSON.parse(e.body), null, 2);
  } catch {
    // Shown as it is.
  }
  return (
    <Box as="section" mt="5" borderTopWidth="1px" borderColor="line" pt="4" data-answer={e.status}>
      <Flex gap="5" align="baseline" wrap="wrap">
        <Text fontWeight="650" color={good ? "good" : "failure"}>
          {good ? "●" : "✕"} {e.status}
        </Text>
        <Text>{bytesText(new TextEncoder().encode(e.body).length)}</Text>
        {!refused && (
          <>
            <Text>
              effort <Mono>{e.effort.asked.toLocaleString("en")}</Mono> <Box as="span" color="faint">of {e.effort.limit.toLocaleString("en")}</Box>
            </Text>
            <Text>
              {e.statements?.length ?? 0} statements in {e.roundTrips} {e.roundTrips === 1 ? "round trip" : "round trips"}
            </Text>
            <Text color="faint">as of change {e.sequence}</Text>
            <Text color="faint">{e.held ? `cached since change ${e.held}` : "not cached"}</Text>
            {e.goodFor > 0 && <Text color="warning">◷ holds for {spanText(e.goodFor)}: it depends on the current time</Text>}
          </>
        )}
      </Flex>
      {!refused && <Times of={e} />}
      <Flex gap="5" mt="3" align={{ lg: "flex-start" }} direction={{ base: "column", lg: "row" }}>
        <Box flex={refused ? "1" : "1.35"} minW="0" position="relative">
          <Editor label="Answer" value={body} maxHeight="520px" />
          {refused && whyLink && e.status !== 400 && (
            <Text mt="2">
              <Link to={whyLink}>Ask why</Link>
            </Text>
          )}
          <Box position="absolute" top="1" right="3">
            <CopyButton text={e.body} label="the answer" />
          </Box>
        </Box>
        {!refused && (
          <Box flex="1" minW="0">
            <Flex gap="4" mb="2" role="group" aria-label="What to show of it">
              {pages.map((p) => (
                <Box
                  as="button"
                  key={p}
                  aria-pressed={p === page}
                  minH="24px"
                  onClick={() => setPage(p)}
                  fontSize="13px"
                  fontWeight={p === page ? "650" : "400"}
                  color={p === page ? "ink" : "faint"}
                  borderBottomWidth="2px"
                  borderColor={p === page ? "accent" : "transparent"}
                  cursor="pointer"
                >
                  {p}
                </Box>
              ))}
              <Box flex="1" />
              {whyLink && <Link to={whyLink}>Something missing? Ask why</Link>}
            </Flex>
            <Box maxH="500px" overflow="auto" fontSize="13px" tabIndex={0} role="region" aria-label={page}>
              {page === "Dependencies" && <MadeOf of={e} />}
              {page === "Statements" && <Statements of={e} />}
              {page === "Headers" &&
                Object.entries(e.header)
                  .sort(([a], [b]) => a.localeCompare(b))
                  .map(([n, v]) => (
                    <Text key={n} py="1" borderTopWidth="1px" borderColor="line" wordBreak="break-word">
                      <Mono color="faint">{n}:</Mono> <Mono>{v.join(", ")}</Mono>
                    </Text>
                  ))}
            </Box>
          </Box>
        )}
      </Flex>
    </Box>
  );
}

function MadeOf({ of: e }: { of: Examined }) {
  return (
    <>
      {madeOf(e.dependencies).map((line) => (
        <Text key={line} py="1.5" borderTopWidth="1px" borderColor="line">
          {line}
        </Text>
      ))}
      {e.dependencies?.entries?.map((d) => (
        <Flex key={d.id + d.locale} gap="3" py="1.5" borderTopWidth="1px" borderColor="line">
          <Box flex="none">
            <Box as="span" display="inline-block" maxW="230px" truncate verticalAlign="bottom" title={d.id}>
              <EntryLink id={d.id} title={e.titles?.[d.id]} />
            </Box>{" "}
            <Mono color="faint">{d.locale}</Mono>
          </Box>
          <Text minW="0" color="faint">{d.fields?.join(", ") ?? "whether it is there"}</Text>
        </Flex>
      ))}
      <Text pt="2" borderTopWidth="1px" borderColor="line" color="faint">
        Nothing else expires it{e.goodFor > 0 ? ", but for the time" : ""}. It needs {e.grants?.length ? e.grants.join(", ") : "no grant"}.
      </Text>
    </>
  );
}

function Statements({ of: e }: { of: Examined }) {
  return (
    <>
      {e.statements?.map((s, i) => (
        <Box key={i} py="2" borderTopWidth="1px" borderColor="line">
          <Mono display="block" wordBreak="break-word" whiteSpace="pre-wrap">
            {s.sql}
          </Mono>
          {s.args && s.args.length > 0 && (
            <Mono display="block" color="faint" mt="1" wordBreak="break-word">
              {s.args.map((a, i) => `$${i + 1} ${JSON.stringify(a)}`).join("  ")}
            </Mono>
          )}
          {s.plan && (
            <Mono as="pre" display="block" mt="2" color="faint" whiteSpace="pre" overflowX="auto" fontSize="11.5px">
              {s.plan}
            </Mono>
          )}
        </Box>
      ))}
    </>
  );
}

/** The read as it is written elsewhere. */
export function Shares({ all, link }: { all: { name: string; text: string }[]; link: string }) {
  return (
    <>
      {[...all, { name: "a link to this page", text: link }].map((s) => (
        <Box key={s.name} mb="4" data-share={s.name}>
          <Flex align="center">
            <Text color="faint">{s.name}</Text>
            <CopyButton text={s.text} label={s.name} />
          </Flex>
          <Mono as="pre" display="block" whiteSpace="pre-wrap" wordBreak="break-word" borderWidth="1px" borderColor="line" px="3" py="2">
            {s.text}
          </Mono>
        </Box>
      ))}
    </>
  );
}
