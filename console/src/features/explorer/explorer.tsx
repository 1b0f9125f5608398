import { autocompletion } from "@codemirror/autocomplete";
import { Box, Flex, Input, Text } from "@chakra-ui/react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { graphql } from "cm6-graphql";
import { buildSchema } from "graphql";
import { useCallback, useEffect, useMemo, useState } from "react";
import { Link, useSearchParams } from "react-router";
import { call, key, type Key, type Model } from "../../api";
import { completing, offered } from "../../code/completion";
import { Editor } from "../../code/editor";
import { ExaminedView, Shares } from "./examined";
import { Act, CopyButton, Failure, Fields, inputStyle, Main, Mono, Page, Pick, SameByCommand, TextField, Tick, useFields, When, Window } from "../../ui";
import { decoded, earlier, fromAddress, partsOf, remember, requestOf, toAddress, written, type Examined, type Parts, type Read, type SavedRead } from "../../lib/read";
import { useWho } from "../../lib/who";
import { useModel } from "../../lib/use-model";

const firstQuery = "{\n  \n}";

/** A place in one of the texts that is wrong. */
type Wrong = { of: string; from: number; to: number; text: string };

/** Where the answer says that the read is wrong. */
function wrongIn(read: Read, e: Examined | undefined): Wrong[] {
  if (!e || e.status < 400) return [];
  let body;
  try {
    body = JSON.parse(e.body);
  } catch {
    return [];
  }
  if (read.query !== undefined) {
    const starts = [0];
    for (const m of read.query.matchAll(/\n/g)) starts.push(m.index + 1);
    return (body.errors ?? []).flatMap((one: { message: string; locations?: { line: number; column: number }[] }) =>
      (one.locations ?? []).map((l) => {
        const from = (starts[l.line - 1] ?? 0) + l.column - 1;
        return { of: "query", from, to: from + (/^\w+/.exec(read.query!.slice(from))?.[0].length ?? 1), text: one.message };
      }),
    );
  }
  if (!body.parameter || !body.at) return [];
  const text = partsOf(read.request ?? "")[body.parameter as "fields"] ?? "";
  const from = body.at - 1;
  return [{ of: body.parameter, from, to: from + (/^[\w.-]+/.exec(text.slice(from))?.[0].length ?? 1), text: body.detail + (body.hint ? "; " + body.hint : "") }];
}

/** Finds a place of a text without its white space in the text with it. */
function spread(text: string, at: number): number {
  let n = 0;
  for (let i = 0; i < text.length; i++) {
    if (/\s/.test(text[i]!)) continue;
    if (n === at) return i;
    n++;
  }
  return text.length;
}

/** Reads anything, as anybody, and tells what the answer is made of. */
export default function ExplorerPage() {
  const who = useWho();
  const model = useModel({ staleTime: 60_000 });
  const queries = useQueryClient();
  const [params, setParams] = useSearchParams();
  const [read, setRead] = useState<Read>(() => fromAddress(params));
  const [parts, setParts] = useState<Parts>(() => partsOf(read.request ?? ""));
  const [variables, setVariables] = useState(() => (read.variables ? JSON.stringify(read.variables, null, 2) : ""));
  const [ran, setRan] = useState<Read | null>(null);
  const [plans, setPlans] = useState(false);
  const [open, setOpen] = useState<"" | "history" | "save" | "copy">("");
  const inGraphQL = read.query !== undefined;
  const keys = useQuery({ queryKey: key("keys"), enabled: who.may.administer, queryFn: ({ signal }) => call<{ items: Key[] }>("/keys", { signal }) });
  const saved = useQuery({ queryKey: key("saved-reads"), queryFn: ({ signal }) => call<{ items: SavedRead[] }>("/reads/saved", { signal }) });

  const run = useMutation({
    mutationFn: (r: Read) => call<Examined>("/reads", { method: "POST", body: { ...r, explain: plans && who.may.administer } }),
    onMutate: (r) => {
      setRan(r);
      remember(r);
      setParams(toAddress(r), { replace: true });
    },
  });

  const show = useCallback((r: Read) => {
    setRead(r);
    setParts(partsOf(r.request ?? ""));
    setVariables(r.variables ? JSON.stringify(r.variables, null, 2) : "");
  }, []);

  // A link carries a read, or names one that is kept: it is run at once.
  const named = params.get("saved");
  useEffect(() => {
    const kept = named ? saved.data?.items.find((s) => s.id === named)?.read : undefined;
    const first = kept ?? (read.request || read.query ? read : undefined);
    if (!first || ran) return;
    if (kept) show(kept);
    run.mutate(first);
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [saved.data]);

  let badVariables = "";
  let given: Record<string, unknown> | undefined;
  if (variables.trim()) {
    try {
      given = JSON.parse(variables);
    } catch (e) {
      badVariables = String(e).replace(/^SyntaxError: /, "");
    }
  }
  const present: Read = useMemo(() => {
    const { variables: _, request: __, ...rest } = read;
    return inGraphQL ? { ...rest, ...(given ? { variables: given } : {}) } : { ...rest, request: requestOf(parts) };
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [read, parts, variables, inGraphQL]);
  const ready = inGraphQL ? !!read.query!.trim() && !badVariables : !!parts.what;
  const go = () => ready && run.mutate(present);
  const wrong = useMemo(() => (ran ? wrongIn(ran, run.data) : []), [ran, run.data]);
  const wrongAt = (of: string, text: string) => wrong.filter((w) => w.of === of).map((w) => (of === "fields" ? { ...w, from: spread(text, w.from), to: spread(text, w.to - 1) + 1 } : w));

  const type = model.data?.types.find((t) => t.plural === parts.what || (t.singleton && t.name === parts.what));
  const types = useMemo(() => (type ? [type] : (model.data?.types ?? [])), [type, model.data]);
  const put = (p: Partial<Parts>) => setParts((old) => ({ ...old, ...p }));

  return (
    <Page
      title="Explorer"
      says="Read as a site reads, and see what the answer is made of"
      actions={
        <Flex gap="2">
          <Act onClick={() => setOpen("history")}>Earlier and kept</Act>
          <Act onClick={() => setOpen("copy")} disabled={!ready}>
            Copy as…
          </Act>
          {(who.may.write || who.may.publish) && (
            <Act onClick={() => setOpen("save")} disabled={!ready}>
              Save…
            </Act>
          )}
        </Flex>
      }
    >
      <Flex gap="3" align="center" wrap="wrap" mb="3">
        <Pick label="Spelled in" value={inGraphQL ? "graphql" : "rest"} onChange={(v) => setRead((r) => (v === "graphql" ? { ...r, query: r.query ?? firstQuery } : { ...r, query: undefined }))}>
          <option value="rest">REST</option>
          <option value="graphql">GraphQL</option>
        </Pick>
        <Text color="faint">read by</Text>
        <Pick label="Read by" value={read.as ?? ""} onChange={(as) => setRead((r) => ({ ...r, as: as || undefined }))}>
          <option value="">me</option>
          <option value="everyone">everyone, without a key</option>
          {keys.data?.items
            .filter((k) => !k.revoked)
            .map((k) => (
              <option key={k.id} value={k.id}>
                key {k.name}
              </option>
            ))}
        </Pick>
        <Pick label="Edition" value={read.edition ?? "published"} onChange={(v) => setRead((r) => ({ ...r, edition: v === "published" ? undefined : v }))}>
          <option value="published">published</option>
          <option value="preview">preview</option>
        </Pick>
        <Pick label="Locale" value={read.language ?? ""} onChange={(v) => setRead((r) => ({ ...r, language: v || undefined }))}>
          {model.data?.locales
            .filter((l) => !l.retired)
            .map((l, i) => (
              <option key={l.tag} value={i === 0 ? "" : l.tag}>
                {l.tag}
              </option>
            ))}
        </Pick>
        {who.may.administer && (
          <Tick checked={plans} onChange={setPlans}>
            with PostgreSQL's plans
          </Tick>
        )}
        <Box flex="1" />
        <Main onClick={go} disabled={!ready} loading={run.isPending} title="Ctrl-Enter">
          Read
        </Main>
      </Flex>

      {inGraphQL ? (
        <GraphQLForm query={read.query!} setQuery={(query) => setRead((r) => ({ ...r, query }))} variables={variables} setVariables={setVariables} badVariables={badVariables} go={go} wrong={wrongAt("query", read.query!)} />
      ) : (
        <RESTForm model={model.data} parts={parts} put={put} types={types} go={go} wrongAt={wrongAt} />
      )}

      <Failure error={run.error} />
      {run.data && ran && <ExaminedView of={run.data} whyLink={ran.query === undefined ? whyLink(ran, who.environment) : undefined} />}
      {!run.data && !run.error && !run.isPending && (
        <Text color="faint" mt="5">
          Choose what to read, and press Ctrl-Enter. In the texts, names are completed by the model in force: Ctrl-Space asks for them.
        </Text>
      )}
      {ready && <SameByCommand command={written(present, who.environment).at(-1)!.text.replace(/\s+/g, " ")} />}

      <Window title="Copy as" open={open === "copy"} close={() => setOpen("")} wide>
        {open === "copy" && <Shares all={written(present, who.environment)} link={location.origin + "/console/explorer?" + new URLSearchParams(toAddress(present))} />}
      </Window>
      <KeepWindow
        open={open === "save"}
        close={() => setOpen("")}
        read={present}
        done={() => void queries.invalidateQueries({ queryKey: key("saved-reads") })}
      />
      <Window title="Earlier and kept reads" open={open === "history"} close={() => setOpen("")} wide>
        {open === "history" && (
          <Kept
            saved={saved.data?.items ?? []}
            forget={who.may.write || who.may.publish ? async (id) => (await call("/reads/saved/" + id, { method: "DELETE" }), void queries.invalidateQueries({ queryKey: key("saved-reads") })) : undefined}
            take={(r) => {
              show(r);
              setOpen("");
              run.mutate(r);
            }}
          />
        )}
      </Window>
    </Page>
  );
}

function whyLink(r: Read, environment: string): string {
  return "/why?" + new URLSearchParams({ request: `/content/${environment}/${r.edition ?? "published"}${r.request}`, ...(r.as && r.as !== "everyone" ? { key: r.as } : {}), ...(r.language ? { locale: r.language } : {}) });
}

/** One line of the form: its name before it. */
function Line({ name, children }: { name: string; children: React.ReactNode }) {
  return (
    <Flex gap="3" mb="2" align="flex-start">
      <Text w="60px" flex="none" pt="1.5" fontFamily="mono" fontSize="12.5px" color="faint">
        {name}
      </Text>
      <Box flex="1" minW="0">
        {children}
      </Box>
    </Flex>
  );
}

function RESTForm({ model, parts, put, types, go, wrongAt }: { model: Model | undefined; parts: Parts; put: (p: Partial<Parts>) => void; types: Model["types"]; go: () => void; wrongAt: (of: string, text: string) => { from: number; to: number; text: string }[] }) {
  const inFields = useMemo(() => completing("fields", model, types), [model, types]);
  const inFilter = useMemo(() => completing("filter", model, types), [model, types]);
  const inSort = useMemo(() => completing("sort", model, types), [model, types]);
  const wrongFields = useMemo(() => wrongAt("fields", parts.fields), [wrongAt, parts.fields]);
  const wrongFilter = useMemo(() => wrongAt("filter", parts.filter), [wrongAt, parts.filter]);
  const single = model?.types.some((t) => t.singleton && t.name === parts.what);
  const byOne: Record<string, string> = { entries: "id", at: "path on the site" };
  const list = !single && !parts.one && !byOne[parts.what];
  return (
    <Box>
      <Line name="what">
        <Flex gap="2" align="center">
          <Pick label="What" value={parts.what} onChange={(what) => put({ what, one: "", fields: "", filter: "", sort: "", more: [] })}>
            <option value="">choose…</option>
            {model?.types.map((t) => (
              <option key={t.name} value={t.singleton ? t.name : t.plural}>
                {t.singleton ? t.name : t.plural}
              </option>
            ))}
            <option value="entries">any entry, by id</option>
            <option value="at">what lives at a path</option>
            <option value="paths">all paths</option>
          </Pick>
          {parts.what && !single && parts.what !== "paths" && (
            <Input {...inputStyle} w="300px" fontFamily="mono" aria-label="Which one" placeholder={byOne[parts.what] ?? "slug, or nothing for the list"} value={parts.one} onChange={(e) => put({ one: e.target.value })} onKeyDown={(e) => e.key === "Enter" && go()} />
          )}
          {list && parts.what && (
            <>
              <Text color="faint">at most</Text>
              <Input {...inputStyle} w="80px" type="number" aria-label="Limit" placeholder={parts.what === "paths" ? "1000" : "20"} value={parts.limit} onChange={(e) => put({ limit: e.target.value })} onKeyDown={(e) => e.key === "Enter" && go()} />
            </>
          )}
          {parts.more.map(([name, value]) => (
            <Act key={name} title="Take it out" onClick={() => put({ more: parts.more.filter(([n]) => n !== name) })} maxW="180px">
              <Box as="span" truncate>
                {name}={value}
              </Box>{" "}
              ×
            </Act>
          ))}
        </Flex>
      </Line>
      {parts.what && parts.what !== "paths" && (
        <Line name="fields">
          <Editor label="Fields" value={parts.fields} onChange={(fields) => put({ fields })} onRun={go} extensions={inFields} wrong={wrongFields} placeholder="all of its own; or names, as in title,slug,about(path)" />
        </Line>
      )}
      {list && parts.what && parts.what !== "paths" && (
        <>
          <Line name="filter">
            <Editor label="Filter" value={parts.filter} onChange={(filter) => put({ filter })} onRun={go} extensions={inFilter} wrong={wrongFilter} placeholder="none; or a condition in CQL2, as in title LIKE 'F%' AND updated > now()" />
          </Line>
          <Line name="sort">
            <Editor label="Sort" value={parts.sort} onChange={(sort) => put({ sort })} onRun={go} extensions={inSort} placeholder="what was published first most lately; or names, as in -published,title" />
          </Line>
        </>
      )}
      {parts.what && (
        <Line name="GET">
          <Flex align="center" pt="1">
            <Mono color="faint" wordBreak="break-all">
              {decoded(requestOf(parts))}
            </Mono>
            <CopyButton text={requestOf(parts)} label="the request" />
          </Flex>
        </Line>
      )}
    </Box>
  );
}

function GraphQLForm({ query, setQuery, variables, setVariables, badVariables, go, wrong }: { query: string; setQuery: (q: string) => void; variables: string; setVariables: (v: string) => void; badVariables: string; go: () => void; wrong: { from: number; to: number; text: string }[] }) {
  const sdl = useQuery({
    queryKey: key("schema.graphql"),
    queryFn: async ({ signal }) => {
      const answer = await fetch("/control/v1/model.graphql", { signal });
      if (!answer.ok) throw new Error(`the schema does not come: ${answer.status}`);
      return answer.text();
    },
  });
  const schema = useMemo(() => (sdl.data ? [graphql(buildSchema(sdl.data)), autocompletion(offered)] : undefined), [sdl.data]);
  const said = JSON.stringify(wrong);
  const shown = useMemo(() => JSON.parse(said) as typeof wrong, [said]);
  return (
    <Box>
      <Line name="query">{schema ? <Editor key="with" label="Query" value={query} onChange={setQuery} onRun={go} extensions={schema} wrong={shown} minHeight="120px" maxHeight="320px" /> : <Box minH="120px" />}</Line>
      <Line name="with">
        <Editor label="Variables" value={variables} onChange={setVariables} onRun={go} placeholder='no variables; or JSON, as in {"slug": "winter-timetable"}' />
        {badVariables && (
          <Text color="failure" role="alert">
            ✕ {badVariables}
          </Text>
        )}
      </Line>
      <Failure error={sdl.error} />
    </Box>
  );
}

function KeepWindow({ open, close, read, done }: { open: boolean; close: () => void; read: Read; done: () => void }) {
  const { environment } = useWho();
  const fields = useFields({ name: "" });
  const [kept, setKept] = useState<SavedRead | null>(null);
  const link = kept && `${location.origin}/console/${environment}/explorer?saved=${kept.id}`;
  return (
    <Window
      title="Save this read"
      open={open}
      close={() => {
        setKept(null);
        fields.reset();
        close();
      }}
      actions={
        !link && (
          <Main type="submit" form="keep" disabled={!fields.watch("name").trim()} loading={fields.formState.isSubmitting}>
            Save
          </Main>
        )
      }
    >
      {link ? (
        <>
          <Text mb="2">Everybody who may sign in here opens it with this link:</Text>
          <Flex align="center">
            <Mono wordBreak="break-all">{link}</Mono>
            <CopyButton text={link} label="the link" />
          </Flex>
          <Text mt="2" color="faint">
            <Mono>ubiquon read --saved '{kept.name}'</Mono>
          </Text>
        </>
      ) : (
        <Fields
          id="keep"
          of={fields}
          whole="name"
          submit={async ({ name }) => {
            setKept(await call<SavedRead>("/reads/saved", { method: "POST", body: { name, read } }));
            done();
          }}
        >
          <TextField name="name" label="Name" autoFocus help="One that is taken is replaced" />
        </Fields>
      )}
    </Window>
  );
}

const brief = (r: Read) => (r.query ?? decoded(r.request ?? "")).replace(/\s+/g, " ");
const conditions = (r: Read) => [r.edition, r.language, r.as && (r.as === "everyone" ? "by everyone" : "by key " + r.as)].filter(Boolean).join(", ");

function Kept({ saved, take, forget }: { saved: SavedRead[]; take: (r: Read) => void; forget?: (id: string) => Promise<void> }) {
  const row = (key: string, r: Read, name: React.ReactNode, end?: React.ReactNode) => (
    <Flex key={key} gap="3" py="1.5" borderTopWidth="1px" borderColor="line" align="center">
      <Box w="150px" flex="none">
        {name}
      </Box>
      <Link
        to="#"
        onClick={(e) => {
          e.preventDefault();
          take(r);
        }}
        style={{ minWidth: 0, flex: 1 }}
      >
        <Mono display="block" truncate title={brief(r)}>
          {brief(r)}
        </Mono>
      </Link>
      <Text color="faint" fontSize="12px">
        {conditions(r)}
      </Text>
      {end}
    </Flex>
  );
  return (
    <>
      <Text color="faint" mb="1">
        Saved, for everybody
      </Text>
      {saved.length === 0 && <Text color="faint">None yet: Save… gives a read a name and a link.</Text>}
      {saved.map((s) =>
        row(
          s.id,
          s.read,
          <Text title={"by " + s.by}>{s.name}</Text>,
          forget && (
            <Act aria-label={"Forget " + s.name} onClick={() => void forget(s.id)}>
              Forget
            </Act>
          ),
        ),
      )}
      <Text color="faint" mt="5" mb="1">
        Earlier, in this browser
      </Text>
      {earlier().map((e, i) => row(String(i), e.read, <When at={e.at} />))}
    </>
  );
}
