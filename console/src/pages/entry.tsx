import { Box, Flex, Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { useParams } from "react-router";
import { call, type EntryDetail, type Field, type Model } from "../api";
import { EventRows } from "../event-rows";
import { Cell, CopyButton, Empty, EntryLink, Loaded, Mono, Page, Row, Rows, SameByCommand, Section, State, When } from "../parts";

function Linked({ id }: { id: string }) {
  const entry = useQuery({ queryKey: ["entry", id], queryFn: ({ signal }) => call<EntryDetail>("/entries/" + encodeURIComponent(id), { signal }), staleTime: 30_000 });
  return <EntryLink id={id} title={entry.error ? id + " (not there)" : entry.data?.title} />;
}

function Value({ field, value }: { field?: Field; value: unknown }) {
  if (value === undefined || value === null) return <Text color="faint">no value</Text>;
  if (Array.isArray(value)) {
    return (
      <Flex gap="2" wrap="wrap">
        {value.map((v, i) => (
          <Value key={i} field={field} value={v} />
        ))}
      </Flex>
    );
  }
  if (field?.kind === "reference") return <Linked id={String(value)} />;
  if (field?.kind === "file" && typeof value === "object") {
    const file = value as { url: string; alt?: string };
    return (
      <Flex gap="3" align="center">
        <img src={file.url} alt={file.alt ?? ""} style={{ height: 54, borderRadius: 3 }} />
        <Box>
          <Text>{file.alt}</Text>
          <Mono color="faint">{file.url}</Mono>
        </Box>
      </Flex>
    );
  }
  if (field?.kind === "money" && typeof value === "object") {
    const sum = value as { amount: number; currency: string };
    return (
      <span>
        {(sum.amount / 100).toFixed(2)} {sum.currency}
      </span>
    );
  }
  if (typeof value === "object") return <Mono>{JSON.stringify(value)}</Mono>;
  return <Text whiteSpace="pre-wrap">{String(value)}</Text>;
}

function FieldRows({ field, value, locales }: { field: Field; value: unknown; locales: Model["locales"] }) {
  const name = (
    <Cell>
      <Mono>{field.name}</Mono>
      <Text color="faint" fontSize="12px">
        {field.kind}
      </Text>
    </Cell>
  );
  if (!field.translated) {
    return (
      <Row data-field={field.name}>
        {name}
        <Cell>
          <Text color="faint">all</Text>
        </Cell>
        <Cell>
          <Value field={field} value={value} />
        </Cell>
      </Row>
    );
  }
  const per = (value ?? {}) as Record<string, unknown>;
  return (
    <Row data-field={field.name}>
      {name}
      <Cell>
        {locales.map((l) => (
          <Mono key={l.tag} display="block" color={per[l.tag] === undefined ? "faint" : "ink"}>
            {l.tag}
          </Mono>
        ))}
      </Cell>
      <Cell>
        {locales.map((l) =>
          per[l.tag] === undefined ? (
            <Text key={l.tag} color="faint" lineClamp={1}>
              {l.fallback?.length ? `falls back to ${l.fallback.join(", ")}` : "missing"}
            </Text>
          ) : (
            <Box key={l.tag} lineClamp={1} title={String(per[l.tag])}>
              <Value field={field} value={per[l.tag]} />
            </Box>
          ),
        )}
      </Cell>
    </Row>
  );
}

export function EntryPage() {
  const { id = "" } = useParams();
  const entry = useQuery({ queryKey: ["entry", id], queryFn: ({ signal }) => call<EntryDetail>("/entries/" + encodeURIComponent(id), { signal }) });
  const model = useQuery({ queryKey: ["model"], queryFn: ({ signal }) => call<Model>("/model", { signal }), staleTime: 60_000 });
  return (
    <Page title={entry.data?.title || "Entry"} says={entry.data && <State of={entry.data.state} />}>
      <Loaded query={entry}>
        {(e) => {
          const type = model.data?.types.find((t) => t.name === e.type);
          const newest = e.revisions[0];
          return (
            <>
              <Flex gap="7" mb="6" wrap="wrap" color="faint">
                <span>
                  {type?.label ?? e.type} <Mono color="ink">{e.id}</Mono>
                  <CopyButton text={e.id} label="the id" />
                </span>
                <span>
                  revision {e.revision}
                  {e.publishedRevision > 0 && e.publishedRevision !== e.revision && `, readers see ${e.publishedRevision}`}
                </span>
                <span>
                  published <When at={e.published} />
                </span>
                <span>
                  from {e.origin} {e.originKey && <Mono>{e.originKey}</Mono>}
                  {e.editAt && (
                    <>
                      {" · "}
                      <a href={e.editAt} target="_blank" rel="noreferrer">
                        edit it there
                      </a>
                    </>
                  )}
                </span>
              </Flex>
              <Section title="Fields, as last saved">
                {newest && type && model.data ? (
                  <Rows label="Fields" head={["Field", "Locale", "Value"]}>
                    {type.fields.map((f) => (
                      <FieldRows key={f.name} field={f} value={newest.fields[f.name]} locales={model.data.locales} />
                    ))}
                  </Rows>
                ) : (
                  <Empty>Nothing is saved.</Empty>
                )}
              </Section>
              {e.events.length > 0 && (
                <Section title="Events">
                  <EventRows label="Events" events={e.events} ofOneEntry />
                </Section>
              )}
              <Section title="Changes that readers could see">
                <Rows label="Changes" head={["Sequence", "At", "Edition", "What", "Differs in", "Cause"]}>
                  {e.changes.map((c) => (
                    <Row key={c.sequence}>
                      <Cell>
                        <Mono>{c.sequence}</Mono>
                      </Cell>
                      <Cell>
                        <When at={c.at} />
                      </Cell>
                      <Cell>{c.edition}</Cell>
                      <Cell>{c.what}</Cell>
                      <Cell>
                        <Mono>{differing(c.fields)}</Mono>
                      </Cell>
                      <Cell>
                        {c.cause.kind} {c.cause.name}
                      </Cell>
                    </Row>
                  ))}
                </Rows>
              </Section>
              <SameByCommand command={"ubiquon entry show " + e.id} />
            </>
          );
        }}
      </Loaded>
    </Page>
  );
}

/** The fields that differ, each once, without what is only said about the entry. */
function differing(fields: Record<string, string[]> | null): string {
  const names = new Set(Object.values(fields ?? {}).flat());
  const own = [...names].filter((n) => !n.startsWith("about."));
  return own.length === 0 ? "dates only" : own.length > 5 ? own.slice(0, 5).join(" ") + " …" : own.join(" ");
}
