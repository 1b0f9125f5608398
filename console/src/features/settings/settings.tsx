import { Box, Flex, Text } from "@chakra-ui/react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { ArrowDown, ArrowUp } from "lucide-react";
import { useState } from "react";
import { Link } from "react-router";
import { call, type Coverage, key, type Locale, refreshAll, stream } from "../../api";
import { Act, Cell, Failure, Fields, Loaded, Main, Mono, Page, Row, Rows, SameByCommand, Section, TextField, useFields, Window } from "../../ui";
import { useModel } from "../../lib/use-model";

type Change = { do: string; tag?: string; name?: string; fallback?: string[]; order?: string[] };

const tags = ["ar", "bg", "ca", "cs", "cy", "da", "de", "de-AT", "de-CH", "el", "en-GB", "en-US", "es", "et", "eu", "fi", "fo", "fr", "fr-CA", "ga", "gl", "he", "hi", "hr", "hu", "is", "it", "ja", "kl", "ko", "lt", "lv", "mt", "nb", "nl", "nn", "pl", "pt", "pt-BR", "ro", "ru", "se", "sk", "sl", "sr", "sv", "th", "tr", "uk", "vi", "zh-Hans", "zh-Hant"];
const spoken = (tag: string, language: string) => {
  try {
    return new Intl.DisplayNames([language], { type: "language" }).of(tag) ?? tag;
  } catch {
    return "";
  }
};

/** How much is translated, as one line: translated, partly, filled in, missing. */
function Bar({ of: c }: { of: Coverage }) {
  const all = c.translated + c.partly + c.filledIn + c.missing;
  const pieces: [number, string, string, string][] = [
    [c.translated, "translated", "good", "solid"],
    [c.partly, "partly", "warning", "solid"],
    [c.filledIn, "filled in", "faint", "dashed"],
    [c.missing, "missing", "failure", "dotted"],
  ];
  return (
    <Box>
      <Flex gap="2px" h="9px" role="img" aria-label={pieces.map(([n, name]) => `${n} ${name}`).join(", ")}>
        {pieces.map(([n, name, colour, line]) => n > 0 && <Box key={name} flex={n / all} borderTopWidth="5px" borderTopStyle={line as "solid"} borderColor={colour} title={`${n} ${name}`} />)}
      </Flex>
      <Text fontSize="11.5px" color="faint" whiteSpace="nowrap">
        {pieces
          .filter(([n]) => n > 0)
          .map(([n, name]) => `${n} ${name}`)
          .join(", ")}
      </Text>
    </Box>
  );
}

export function SettingsPage() {
  const queries = useQueryClient();
  const model = useModel();
  const coverage = useQuery({ queryKey: key("coverage"), queryFn: ({ signal }) => call<{ items: Coverage[] }>("/coverage", { signal }) });
  const [editing, setEditing] = useState<Locale | "new" | null>(null);
  const [retiring, setRetiring] = useState<Locale | null>(null);
  const [progress, setProgress] = useState("");
  const change = useMutation({
    mutationFn: (c: Change) => stream<{ done: number; total: number }>("/locales", c, (p) => p.total && setProgress(`Rendered ${p.done} of ${p.total} entries`)),
    onSuccess: () => {
      setEditing(null);
      setRetiring(null);
    },
    onSettled: () => {
      setProgress("");
      return refreshAll(queries);
    },
  });
  return (
    <Page title="Settings" says="Locales, and what is translated into them" actions={<Main onClick={() => setEditing("new")}>Add a locale</Main>}>
      {editing === null && <Failure error={change.error} />}
      {progress && (
        <Text role="status" mb="3">
          {progress}
        </Text>
      )}
      <Loaded query={model}>
        {(m) => {
          const all = m.locales.map((l) => l.tag);
          const active = m.locales.filter((l) => !l.retired);
          const move = (i: number, to: number) => {
            const next = [...all];
            [next[i], next[to]] = [next[to]!, next[i]!];
            change.mutate({ do: "order", order: next });
          };
          return (
            <>
              <Section title="Locales, the default first">
                <Rows label="Locales" head={["Tag", "Name", "Falls back to", "", ""]}>
                  {m.locales.map((l, i) => (
                    <Row key={l.tag} data-locale={l.tag}>
                      <Cell>
                        <Mono>{l.tag}</Mono>
                      </Cell>
                      <Cell>{l.name}</Cell>
                      <Cell>{l.fallback?.length ? <Mono>{l.fallback.join(", then ")}</Mono> : <Text color="faint">nothing: what is not written is not there</Text>}</Cell>
                      <Cell>{l.retired ? "– retired" : l.tag === active[0]?.tag ? "default" : ""}</Cell>
                      <Cell right>
                        <Flex gap="1" justify="end">
                          <Act aria-label={`Move ${l.tag} up`} disabled={i === 0 || change.isPending} onClick={() => move(i, i - 1)}>
                            <ArrowUp size={13} />
                          </Act>
                          <Act aria-label={`Move ${l.tag} down`} disabled={i === m.locales.length - 1 || change.isPending} onClick={() => move(i, i + 1)}>
                            <ArrowDown size={13} />
                          </Act>
                          <Act onClick={() => setEditing(l)}>Change</Act>
                          {l.retired ? <Act onClick={() => change.mutate({ do: "restore", tag: l.tag })}>Restore</Act> : <Act onClick={() => setRetiring(l)}>Retire…</Act>}
                        </Flex>
                      </Cell>
                    </Row>
                  ))}
                </Rows>
              </Section>
              <Section title="Coverage: entries by how much of them is translated">
                <Loaded query={coverage}>
                  {(c) => {
                    const types = [...new Set(c.items.map((i) => i.type))];
                    return (
                      <Rows label="Coverage" head={["Type", ...active.map((l) => l.name || l.tag)]}>
                        {types.map((type) => (
                          <Row key={type} data-coverage={type}>
                            <Cell>
                              <Link to={"/entries?type=" + type}>{m.types.find((t) => t.name === type)?.label ?? type}</Link>
                            </Cell>
                            {active.map((l) => {
                              const one = c.items.find((i) => i.type === type && i.locale === l.tag);
                              return (
                                <Cell key={l.tag}>
                                  {one && (
                                    <Link to={`/entries?type=${type}&missing=${l.tag}`} style={{ display: "block", color: "inherit" }}>
                                      <Bar of={one} />
                                    </Link>
                                  )}
                                </Cell>
                              );
                            })}
                          </Row>
                        ))}
                      </Rows>
                    );
                  }}
                </Loaded>
              </Section>
              {editing !== null && <LocaleWindow locales={m.locales} locale={editing === "new" ? null : editing} error={change.error} busy={change.isPending} close={() => setEditing(null)} save={(c) => change.mutate(c)} />}
              {retiring && (
                <Window
                  title={`Retire ${retiring.name || retiring.tag}?`}
                  open
                  close={() => setRetiring(null)}
                  actions={
                    <Main bg="failure" loading={change.isPending} onClick={() => change.mutate({ do: "retire", tag: retiring.tag })}>
                      Retire
                    </Main>
                  }
                >
                  <Text>Readers get a 400 for it from then on. What was written in it is kept, and comes back with it.</Text>
                </Window>
              )}
            </>
          );
        }}
      </Loaded>
      <SameByCommand command="ubiquon locale list && ubiquon locale coverage" />
    </Page>
  );
}

function LocaleWindow({ locales, locale, error, busy, close, save }: { locales: Locale[]; locale: Locale | null; error: unknown; busy: boolean; close: () => void; save: (c: Change) => void }) {
  const fields = useFields({ tag: locale?.tag ?? "", name: locale?.name ?? "", fallback: (locale?.fallback ?? []).join(", ") });
  const tag = fields.watch("tag");
  return (
    <Window
      title={locale ? "Locale " + locale.tag : "Add a locale"}
      open
      close={close}
      actions={
        <Main type="submit" form="locale" disabled={!tag} loading={busy}>
          {locale ? "Save" : "Add"}
        </Main>
      }
    >
      <Fields
        id="locale"
        of={fields}
        submit={(v) =>
          save({
            do: locale ? "change" : "add",
            tag: v.tag,
            name: v.name || spoken(v.tag, v.tag),
            fallback: v.fallback
              .split(",")
              .map((t) => t.trim())
              .filter(Boolean),
          })
        }
      >
        {!locale && (
          <>
            <TextField name="tag" label="Tag" fontFamily="mono" list="known-locales" autoFocus help="In BCP 47, or chosen by name" />
            <datalist id="known-locales">
              {tags.map((t) => (
                <option key={t} value={t}>
                  {spoken(t, "en")}
                </option>
              ))}
            </datalist>
          </>
        )}
        <TextField name="name" label="Locale name" placeholder={tag && spoken(tag, tag)} />
        <TextField
          name="fallback"
          label="Fallbacks"
          fontFamily="mono"
          help={
            "In order, separated by commas: " +
            locales
              .filter((l) => l.tag !== tag)
              .map((l) => l.tag)
              .join(", ")
          }
        />
      </Fields>
      <Failure error={error} />
    </Window>
  );
}
