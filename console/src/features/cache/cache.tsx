import { Box, Flex, Input, SimpleGrid, Text } from "@chakra-ui/react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useSearchParams } from "react-router";
import { type CacheStats, call, key, refreshAll } from "../../api";
import { Act, bytesText, Cell, Empty, EntryLink, Failure, Figure, inputStyle, Loaded, Main, Mono, Page, Pick, Row, Rows, SameByCommand, Section, State, When, Window } from "../../ui";
import { madeOf, type Dependencies } from "../../lib/read";
import { usePutAddress } from "../../lib/address";
import { useModel } from "../../lib/use-model";
import { History } from "../../ui/history";

type Held = { key: string; asked: string; edition: string; status: number; bytes: number; body: number; hits: number; sequence: number; made: string; ends?: string; types: string[] };
type Explained = Held & { dependencies: Dependencies; titles?: Record<string, string> };
type Sums = Record<string, { answers: number; bytes: number; hits: number }>;
type Node = { id: string; name: string; started: string; seen: string; applied: number; state: string; here?: boolean; behind: number };
type Downstream = { name: string; sequence: number; behind: number; told?: string; calls: number; attempts?: number; failed?: string; next?: string };
type Supposed = { what: string; changes: number; expires: Held[]; of: number; rules: { rule: string; fires: boolean; why?: string }[]; sites: string[] };

const share = (s: { hits: number; misses: number }) => (s.hits + s.misses ? (100 * s.hits) / (s.hits + s.misses) : null);

/** A request as somebody would write it. */
function readable(asked: string): string {
  try {
    return decodeURIComponent(asked);
  } catch {
    return asked;
  }
}

function Explanation({ held, close }: { held: string; close: () => void }) {
  const answer = useQuery({ queryKey: key("held", held), queryFn: ({ signal }) => call<Explained>("/cache/answers/" + encodeURIComponent(held), { signal }) });
  return (
    <Window title="Dependencies of the answer" open close={close} wide>
      <Loaded query={answer}>
        {(e) => (
          <Box data-explained={e.key}>
            <Mono display="block" mb="2" wordBreak="break-all">
              {e.asked}
            </Mono>
            <Text color="faint" mb="3">
              {bytesText(e.bytes)}, of which the body {bytesText(e.body)} · requested {e.hits} times · of change {e.sequence}
              {e.ends && (
                <>
                  {" "}
                  · expires by itself at <When at={e.ends} />
                </>
              )}
            </Text>
            {madeOf(e.dependencies).map((line) => (
              <Text key={line} mb="1">
                {line}
              </Text>
            ))}
            {(e.dependencies.entries ?? []).map((x, i) => (
              <Text key={i} mb="1">
                of <EntryLink id={x.id} title={e.titles?.[x.id]} /> in {x.locale}: {x.fields?.join(", ") || "whether it is there"}
              </Text>
            ))}
          </Box>
        )}
      </Loaded>
      <SameByCommand command={"ubiquon cache explain " + held} />
    </Window>
  );
}

function Supposing({ entry, close }: { entry: string; close: () => void }) {
  const [what, setWhat] = useState("publish");
  const answer = useQuery({ queryKey: key("suppose", entry, what), queryFn: ({ signal }) => call<Supposed>("/changes/simulate", { method: "POST", body: { entry, what }, signal }), retry: false });
  return (
    <Window title="What would it do?" open close={close} wide>
      <Flex gap="3" align="center" mb="3">
        <Pick label="What" value={what} onChange={setWhat}>
          <option value="publish">publish</option>
          <option value="unpublish">unpublish</option>
        </Pick>
        <Mono>{entry}</Mono>
      </Flex>
      <Loaded query={answer}>
        {(s) =>
          s.changes === 0 ? (
            <Text data-supposed="0">Readers would see no difference.</Text>
          ) : (
            <Box data-supposed={String(s.expires.length)}>
              <Text mb="2">
                It would expire {s.expires.length} of the {s.of} answers cached here, and rebuild {s.sites.join(", ") || "no site"}.
              </Text>
              {s.expires.slice(0, 50).map((x) => (
                <Mono key={x.key} display="block">
                  {readable(x.asked)}
                </Mono>
              ))}
              <Box mt="3">
                {s.rules.map((r) => (
                  <Text key={r.rule} color={r.fires ? "ink" : "faint"}>
                    {r.fires ? "●" : "○"} rule {r.rule} {r.fires ? "fires" : "does not fire: " + r.why}
                  </Text>
                ))}
              </Box>
            </Box>
          )
        }
      </Loaded>
      <SameByCommand command={`ubiquon change simulate ${entry} --do ${what}`} />
    </Window>
  );
}

export function CachePage() {
  const queries = useQueryClient();
  const [params] = useSearchParams();
  const [purging, setPurging] = useState(false);
  const [entry, setEntry] = useState("");
  const putAddress = usePutAddress();
  const put = (name: string, value: string) => putAddress({ [name]: value }, { replace: true });
  const search = params.get("search") ?? "",
    type = params.get("type") ?? "",
    sort = params.get("sort") ?? "hits";
  const meant = { ...(search && { search }), ...(type && { type }) };
  const stats = useQuery({ queryKey: key("cache"), queryFn: ({ signal }) => call<CacheStats>("/cache", { signal }) });
  const nodes = useQuery({ queryKey: key("nodes"), queryFn: ({ signal }) => call<{ items: Node[] }>("/nodes", { signal }) });
  const downstream = useQuery({ queryKey: key("downstream"), queryFn: ({ signal }) => call<{ items: Downstream[] }>("/downstream", { signal }) });
  const held = useQuery({ queryKey: key("held", search, type, sort), queryFn: ({ signal }) => call<{ items: Held[]; total: number; byType: Sums }>("/cache/answers?" + new URLSearchParams({ ...meant, sort }), { signal }) });
  const purge = useMutation({
    mutationFn: () => call<{ purged: number }>("/cache/purge", { method: "POST", body: meant }),
    onSuccess: () => setPurging(false),
    onSettled: () => refreshAll(queries),
  });
  const model = useModel({ staleTime: 60_000 });
  return (
    <Page title="Cache" says="What this node has cached, what it depends on, and what would expire it">
      <Loaded query={stats}>
        {(s) => {
          const p = share({ hits: s.hits, misses: s.misses + s.joined });
          return (
            <SimpleGrid columns={{ base: 2, lg: 4 }} gap="5" mb="7">
              <Figure name="Cached answers" value={String(s.responses)} says={`${bytesText(s.bytes)} of ${bytesText(s.limit)}`} />
              <Figure name="Hits" value={p === null ? "–" : p.toFixed(1) + " %"} says={`${s.hits} of ${s.hits + s.misses + s.joined} reads`} />
              <Figure name="Expired by a change" value={String(s.expired)} says={`${s.evicted} evicted, ${s.purged} purged`} />
              <Figure name="Applied" value={"change " + s.applied} says={nodes.data?.items.length === 1 ? "one node follows the log" : `${nodes.data?.items.length ?? "–"} nodes follow the log`} />
            </SimpleGrid>
          );
        }}
      </Loaded>
      <History of="cache" title="Hits, and what expired" />
      <Section title="Answers">
        <Flex gap="3" mb="2" align="center" wrap="wrap">
          <Input {...inputStyle} w="260px" placeholder="a part of the request" aria-label="Search" value={search} onChange={(e) => put("search", e.target.value)} />
          <Pick label="Type" value={type} onChange={(v) => put("type", v)}>
            <option value="">every type</option>
            {model.data?.types.map((t) => (
              <option key={t.name}>{t.name}</option>
            ))}
          </Pick>
          <Pick label="Order" value={sort} onChange={(v) => put("sort", v)}>
            <option value="hits">most requested</option>
            <option value="bytes">largest</option>
            <option value="age">oldest</option>
          </Pick>
          <Text color="faint" flex="1">
            {held.data && `${held.data.total} ${held.data.total === 1 ? "answer" : "answers"}`}
          </Text>
          <Act onClick={() => setPurging(true)} disabled={!held.data?.total}>
            Purge…
          </Act>
        </Flex>
        <Loaded query={held}>
          {({ items }) =>
            items.length === 0 ? (
              <Empty>No cached answer matches. Answers are cached when they are requested; see ubiquon cache warm.</Empty>
            ) : (
              <Rows label="Cached answers" head={["Request", "Made", "Change", "Size", "Hits"]} numbers={["Change", "Size", "Hits"]}>
                {items.map((a) => (
                  <Row key={a.key} data-held={a.key}>
                    <Cell>
                      <Box as="button" textAlign="start" cursor="pointer" wordBreak="break-all" _hover={{ textDecoration: "underline" }} onClick={() => put("answer", a.key)}>
                        <Mono>{readable(a.asked)}</Mono>
                      </Box>
                      {a.status !== 200 && <State of={String(a.status)} />}
                    </Cell>
                    <Cell>
                      <When at={a.made} />
                    </Cell>
                    <Cell right>{a.sequence}</Cell>
                    <Cell right>
                      <Box as="span" whiteSpace="nowrap">
                        {bytesText(a.bytes)}
                      </Box>
                    </Cell>
                    <Cell right>{a.hits}</Cell>
                  </Row>
                ))}
              </Rows>
            )
          }
        </Loaded>
      </Section>
      <Flex gap="6" align="start" direction={{ base: "column", lg: "row" }}>
        <Box flex="1">
          <Section title="By type">
            <Rows label="By type" head={["Type", "Answers", "Size", "Hits"]} numbers={["Answers", "Size", "Hits"]}>
              {Object.entries(held.data?.byType ?? {})
                .sort((a, b) => b[1].bytes - a[1].bytes)
                .map(([t, sum]) => (
                  <Row key={t} data-type={t}>
                    <Cell>{t}</Cell>
                    <Cell right>{sum.answers}</Cell>
                    <Cell right>{bytesText(sum.bytes)}</Cell>
                    <Cell right>{sum.hits}</Cell>
                  </Row>
                ))}
            </Rows>
          </Section>
        </Box>
        <Box flex="1">
          <Section title="Nodes">
            <Loaded query={nodes}>
              {({ items }) => (
                <Rows label="Nodes" head={["Node", "State", "Seen", "Behind"]} numbers={["Behind"]}>
                  {items.map((n) => (
                    <Row key={n.id} data-node={n.name}>
                      <Cell>
                        {n.name}
                        {n.here && <Text as="span" color="faint">, this one</Text>}
                      </Cell>
                      <Cell>{n.state === "leased" ? "● leased" : "○ " + n.state}</Cell>
                      <Cell>
                        <When at={n.seen} />
                      </Cell>
                      <Cell right>{n.behind}</Cell>
                    </Row>
                  ))}
                </Rows>
              )}
            </Loaded>
          </Section>
          {!!downstream.data?.items.length && (
            <Section title="Caches downstream">
              <Rows label="Caches downstream" head={["Cache", "State", "Notified", "Calls", "Behind"]} numbers={["Calls", "Behind"]}>
                {downstream.data.items.map((d) => (
                  <Row key={d.name} data-downstream={d.name}>
                    <Cell>{d.name}</Cell>
                    <Cell>{d.attempts ? <Text color="failure">✕ the last {d.attempts} did not come through: {d.failed}</Text> : "● takes calls"}</Cell>
                    <Cell>{d.told ? <When at={d.told} /> : "never"}</Cell>
                    <Cell right>{d.calls}</Cell>
                    <Cell right>{d.behind}</Cell>
                  </Row>
                ))}
              </Rows>
            </Section>
          )}
          <Section title="What would a publish do?">
            <Flex
              as="form"
              gap="3"
              onSubmit={(e) => {
                e.preventDefault();
                put("suppose", entry.trim());
              }}
            >
              <Input {...inputStyle} placeholder="the id of an entry" aria-label="Entry" value={entry} onChange={(e) => setEntry(e.target.value)} />
              <Act type="submit" size="sm" disabled={!entry.trim()}>
                Suppose it
              </Act>
            </Flex>
          </Section>
        </Box>
      </Flex>
      <SameByCommand command={"ubiquon cache list" + (type ? " --type " + type : "") + (search ? ` --search '${search}'` : "")} />
      {params.get("answer") && <Explanation held={params.get("answer")!} close={() => put("answer", "")} />}
      {params.get("suppose") && <Supposing entry={params.get("suppose")!} close={() => put("suppose", "")} />}
      <Window
        title="Throw answers away"
        open={purging}
        close={() => setPurging(false)}
        actions={
          <Main loading={purge.isPending} onClick={() => purge.mutate()}>
            Purge {held.data?.total} {held.data?.total === 1 ? "answer" : "answers"}
          </Main>
        }
      >
        <Text>
          {search || type ? "The answers that fit" : "All answers of this node"}, {held.data?.total} now, are computed anew when somebody asks for them. Nothing older is served without this either: it is for when you do not trust that.
        </Text>
        <Failure error={purge.error} />
      </Window>
    </Page>
  );
}
