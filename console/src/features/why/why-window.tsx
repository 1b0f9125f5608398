import { Box, Flex, Input, Text } from "@chakra-ui/react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "react-router";
import { call, key, type Key, type Mend, type Reason, refreshAll, type WhyAnswer } from "../../api";
import { Act, CopyButton, Failure, Loaded, Mono, Pick, Section, When, Window } from "../../ui";
import { useWho } from "../../lib/who";
import { useModel } from "../../lib/use-model";
import { useState } from "react";

export type Question = { entry?: string; request?: string; key?: string; edition?: string; locale?: string; type?: string };

function MendRow({ of: m }: { of: Mend }) {
  const queries = useQueryClient();
  const who = useWho();
  const run = useMutation({ mutationFn: () => call(m.request!.path, { method: m.request!.method, body: m.request!.body }), onSettled: () => refreshAll(queries) });
  // What opens or gives something asks once more, since it cannot be taken back from who has read it.
  const [sure, setSure] = useState(false);
  const opens = m.request?.path === "/open";
  const may = m.request?.path === "/edits" ? who.may.publish : who.may.administer;
  return (
    <Box>
      <Flex align="center" gap="3" py="1" wrap="wrap">
        {m.request && may && !(opens && !sure) && (
          <Act loading={run.isPending} onClick={() => run.mutate()} data-mend={m.says}>
            {opens ? "Yes, everyone may read it" : m.says}
          </Act>
        )}
        {m.request && may && opens && !sure && (
          <Act onClick={() => setSure(true)} data-mend={m.says}>
            {m.says}…
          </Act>
        )}
        {!(m.request && may) && m.page && !m.link && <Link to={m.page}>{m.says}</Link>}
        {!(m.request && may) && !m.page && !m.link && <Text>{m.says}</Text>}
        {m.link && (
          <a href={m.link} target="_blank" rel="noreferrer">
            {m.says}
          </a>
        )}
        <Flex align="center" minW="0">
          <Mono color="faint" truncate>
            {m.command}
          </Mono>
          <CopyButton text={m.command} label="the command" />
        </Flex>
      </Flex>
      <Failure error={run.error} />
    </Box>
  );
}

function Reasons({ of, start = 1 }: { of: Reason[]; start?: number }) {
  return (
    <Box as="ol" listStyleType="none" m="0" p="0">
      {of.map((r, i) => (
        <Flex as="li" key={r.code + i} gap="3" py="3" borderTopWidth="1px" borderColor="line" data-reason={r.code}>
          <Text color="faint" fontFamily="mono" w="1.4em" flex="none">
            {start + i}
          </Text>
          <Box minW="0" flex="1">
            <Text fontWeight="550">{r.text}</Text>
            {r.mends.map((m) => (
              <MendRow key={m.says + m.command} of={m} />
            ))}
          </Box>
        </Flex>
      ))}
    </Box>
  );
}

/** Who reads, which edition, which locale. */
function Asked({ q, put }: { q: Question; put: (q: Question) => void }) {
  const who = useWho();
  const model = useModel({ staleTime: 60_000 });
  const keys = useQuery({ queryKey: key("keys"), enabled: who.may.administer, queryFn: ({ signal }) => call<{ items: Key[] }>("/keys", { signal }) });
  return (
    <Flex gap="3" align="center" wrap="wrap">
      <Text color="faint">read by</Text>
      {who.may.administer ? (
        <Pick label="Reader" value={q.key ?? ""} onChange={(key) => put({ ...q, key })}>
          <option value="">everyone</option>
          {keys.data?.items.map((k) => (
            <option key={k.id} value={k.id}>
              {k.name}
              {k.revoked ? " (revoked)" : ""}
            </option>
          ))}
        </Pick>
      ) : (
        <Input size="sm" w="180px" bg="sheet" borderColor="control" aria-label="Reader" placeholder="everyone, or a key's name" value={q.key ?? ""} onChange={(e) => put({ ...q, key: e.target.value })} />
      )}
      <Text color="faint">in</Text>
      <Pick label="Edition" value={q.edition ?? "published"} onChange={(edition) => put({ ...q, edition })}>
        <option value="published">published</option>
        <option value="preview">preview</option>
      </Pick>
      <Pick label="Locale" value={q.locale ?? ""} onChange={(locale) => put({ ...q, locale })}>
        <option value="">the default locale</option>
        {model.data?.locales
          .filter((l) => !l.retired)
          .map((l) => (
            <option key={l.tag} value={l.tag}>
              {l.name || l.tag}
            </option>
          ))}
      </Pick>
    </Flex>
  );
}

/** The answer to why a reader does not see an entry, or where it is seen. */
export function WhyView({ q, put }: { q: Question; put: (q: Question) => void }) {
  const answer = useQuery({ queryKey: key("why", q), enabled: !!(q.entry || q.request), queryFn: ({ signal }) => call<WhyAnswer>("/why", { method: "POST", body: q, signal }) });
  return (
    <Box>
      <Asked q={q} put={put} />
      <Box mt="4">
        {!(q.entry || q.request) ? (
          <Text color="faint">Name an entry by its id, its slug or its path, or paste the address of the request that was refused.</Text>
        ) : (
          <Loaded query={answer}>
            {(a) => (
              <>
                <Flex align="baseline" gap="2" mb="2" data-visible={String(a.visible)}>
                  <Text fontSize="16px" fontWeight="600" color={a.visible ? "good" : "failure"}>
                    {a.visible ? "● Visible" : "⊘ Not visible"}
                  </Text>
                  <Text color="faint">
                    {a.entry ? <Link to={"/entries/" + a.entry.id}>{a.entry.title || a.entry.id}</Link> : (q.entry ?? q.request)} for {a.reader}, {a.edition}, {a.locale}
                  </Text>
                </Flex>
                <Reasons of={a.reasons} />
                {a.remarks.length > 0 && (
                  <Section title="Left out of it">
                    <Reasons of={a.remarks} />
                  </Section>
                )}
                {a.visible && a.since && (
                  <Text mb="3">
                    Since change <Mono>{a.since.sequence}</Mono> (<When at={a.since.at} />, {a.since.what})
                  </Text>
                )}
                {!!a.pages?.length && (
                  <Section title="Pages that show it">
                    {a.pages.map((p) => (
                      <Text key={p.site + p.address}>
                        <a href={p.address} target="_blank" rel="noreferrer">
                          {p.address}
                        </a>{" "}
                        <Text as="span" color="faint">
                          {p.title}
                        </Text>
                      </Text>
                    ))}
                  </Section>
                )}
                {!!a.cached?.length && (
                  <Section title="Cached answers made of it, on this node">
                    {a.cached.map((c, i) => (
                      <Mono key={i} display="block" truncate>
                        {c.asked}
                      </Mono>
                    ))}
                  </Section>
                )}
                {a.others?.map((o) => (
                  <Text key={o.id} mt="2">
                    There is also the {o.type} <Link to={"/why?entry=" + o.id}>{o.title || o.id}</Link>.
                  </Text>
                ))}
              </>
            )}
          </Loaded>
        )}
      </Box>
    </Box>
  );
}

/** The command that asks the same. */
export const whyCommand = (q: Question) =>
  `ubiquon why ${q.request ? `'${q.request.replace(/^[A-Z]+ /, "")}'` : q.entry || "SLUG"}${q.key ? " --key " + q.key : ""}${q.edition && q.edition !== "published" ? " --edition " + q.edition : ""}${q.locale ? " --locale " + q.locale : ""}`;

export function WhyWindow({ start, close }: { start: Question; close: () => void }) {
  const [q, setQ] = useState(start);
  return (
    <Window wide title="Why not visible?" open close={close}>
      <WhyView q={q} put={setQ} />
    </Window>
  );
}
