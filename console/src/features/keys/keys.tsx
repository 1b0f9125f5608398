import { Box, Flex, Grid, Input, Text } from "@chakra-ui/react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { useSearchParams } from "react-router";
import { call, type Grant, grantText, key, type Key, refreshAll, type Refusal, type Sight } from "../../api";
import { useWho } from "../../lib/who";
import { Act, Cell, CopyButton, Failure, Fields, inputStyle, Loaded, Main, Mono, Page, Pick, Row, Rows, SameByCommand, Section, TextField, Tick, useFields, When, Window } from "../../ui";
import { useModel } from "../../lib/use-model";
import { WhyWindow, type Question } from "../why/why-window";

const editions = ["published", "preview"] as const;
type Edition = (typeof editions)[number];

/** How a reader comes to read a type in an edition. */
type Reach = { how: "own" | "all" | "open" | "none"; locales?: string[]; says: string };

function reach(own: Grant[], open: Grant[], type: string, edition: Edition): Reach {
  const fits = (g: Grant) => g.verb === "read" && (g.edition === edition || g.edition === "*");
  const by = (all: Grant[], t: string) => all.filter((g) => fits(g) && g.type === t);
  const limits = (all: Grant[]) => (all.some((g) => !g.locales?.length) ? undefined : all.flatMap((g) => g.locales ?? []));
  const wide = by(own, "*");
  if (wide.length) return { how: "all", locales: limits(wide), says: wide.map(grantText).join(", ") };
  const one = by(own, type);
  if (one.length) return { how: "own", locales: limits(one), says: one.map(grantText).join(", ") };
  const opened = [...by(open, "*"), ...by(open, type)];
  if (opened.length) return { how: "open", locales: limits(opened), says: "open to everyone: " + opened.map(grantText).join(", ") };
  return { how: "none", says: "nothing" };
}

const signs = { own: "●", all: "■", open: "○", none: "·" };

export function keyState(k: Key): [string, string] {
  if (k.revoked) return ["– revoked", "faint"];
  if (k.expires && new Date(k.expires) <= new Date()) return ["✕ expired", "failure"];
  if (k.expires) return ["◷ until " + k.expires.slice(0, 10), "warning"];
  return ["● active", "good"];
}

type Toggle = { reader: Key | null; type: string; edition: Edition; add: boolean };

export function KeysPage() {
  const queries = useQueryClient();
  const [params, setParams] = useSearchParams();
  const model = useModel({ staleTime: 60_000 });
  const keys = useQuery({ queryKey: key("keys"), queryFn: ({ signal }) => call<{ items: Key[]; open: Grant[] }>("/keys", { signal }) });
  const refusals = useQuery({ queryKey: key("refusals"), queryFn: ({ signal }) => call<{ items: Refusal[] }>("/refusals", { signal }) });
  const [making, setMaking] = useState(false);
  const [secret, setSecret] = useState<{ key: Key; secret: string } | null>(null);
  const [opening, setOpening] = useState<Toggle | null>(null);
  const [why, setWhy] = useState<Question | null>(null);
  const all = params.get("all") === "yes";
  const chosen = params.get("key");
  const put = (name: string, value: string) => {
    const next = new URLSearchParams(params);
    if (value) next.set(name, value);
    else next.delete(name);
    setParams(next, { replace: true });
  };
  const change = useMutation({
    mutationFn: (t: Toggle) => {
      const grant = `read ${t.edition} ${t.type}`;
      return call(t.reader ? "/keys/" + t.reader.id : "/open", { method: "PATCH", body: t.add ? { add: [grant] } : { take: [grant] } });
    },
    onSettled: () => {
      setOpening(null);
      return refreshAll(queries);
    },
  });
  return (
    <Page title="Keys" says="Who may read what" actions={<Main onClick={() => setMaking(true)}>Make a key</Main>}>
      <Failure error={change.error} />
      <Loaded query={{ data: keys.data && model.data && { k: keys.data, m: model.data }, error: keys.error ?? model.error }}>
        {({ k, m }) => {
          const types = m.types.map((t) => t.name);
          const shown = k.items.filter((one) => all || !one.revoked);
          const detail = k.items.find((one) => one.id === chosen);
          const press = (reader: Key | null, type: string, edition: Edition, r: Reach) => {
            const t = { reader, type, edition, add: reader ? r.how !== "own" : r.how === "none" };
            if (!reader && t.add) setOpening(t);
            else change.mutate(t);
          };
          return (
            <>
              <Box overflowX="auto" bg="sheet" borderWidth="1px" borderColor="line">
                <Box as="table" css={{ borderCollapse: "collapse", width: "100%", "& td, & th": { borderBottom: "1px solid", borderColor: "line", fontWeight: 400, padding: "5px 3px" }, "& th.type": { borderLeft: "1px solid", borderColor: "line" }, "& td.first": { borderLeft: "1px solid", borderColor: "line" } }} aria-label="Who may read what">
                  <thead>
                    <tr>
                      <Box as="th" textAlign="start" verticalAlign="bottom" color="faint" fontSize="12px" style={{ paddingLeft: 12 }}>
                        Reader
                      </Box>
                      {types.map((t) => (
                        <Box as="th" key={t} className="type" {...{ colSpan: 2 }} verticalAlign="bottom" textAlign="center" fontSize="12px" fontFamily="mono" lineHeight="1.15" maxW="76px" overflowWrap="anywhere">
                          {t.replace("-", "-\u200b")}
                        </Box>
                      ))}
                    </tr>
                    <tr>
                      <td aria-label="Type" />
                      {types.flatMap((t) =>
                        editions.map((e) => (
                          <Box as="th" key={t + e} className={e === "published" ? "type" : undefined} fontSize="10.5px" color="faint" title={e}>
                            {e === "published" ? "pub" : "pre"}
                          </Box>
                        )),
                      )}
                    </tr>
                  </thead>
                  <tbody>
                    <MatrixRow name="everyone" says="without a key" open={k.open} own={k.open} types={types} press={(t, e, r) => press(null, t, e, r)} everyone />
                    {shown.map((one) => (
                      <MatrixRow key={one.id} reader={one} name={one.name} open={k.open} own={one.grants} types={types} chosen={one.id === chosen} choose={() => put("key", one.id === chosen ? "" : one.id)} press={(t, e, r) => press(one, t, e, r)} />
                    ))}
                  </tbody>
                </Box>
              </Box>
              <Flex mt="2" mb="5" gap="5" fontSize="12px" color="faint" align="center" wrap="wrap">
                <span>● a grant for the type</span>
                <span>■ a grant for every type</span>
                <span>○ open to everyone</span>
                <span>small letters: these locales only</span>
                <Box flex="1" />
                <Tick checked={all} onChange={(yes) => put("all", yes ? "yes" : "")}>
                  revoked keys too
                </Tick>
              </Flex>
              {detail && <KeyDetail k={detail} shown={(secret) => setSecret({ key: detail, secret })} />}
              <Section title="Refused lately, on this node">
                <Loaded query={refusals}>
                  {(r) =>
                    r.items.length === 0 ? (
                      <Text color="faint">Nothing was refused for want of a grant or a good key.</Text>
                    ) : (
                      <Rows label="Refused lately" head={["At", "Reader", "From", "Request", "What was missing", ""]}>
                        {r.items.slice(0, 12).map((one) => (
                          <Row key={one.at + one.request} data-refusal={one.grant ?? "key"}>
                            <Cell>
                              <When at={one.at} />
                            </Cell>
                            <Cell>{one.reader || "a key that is not good"}</Cell>
                            <Cell>
                              <Mono>{one.address}</Mono>
                            </Cell>
                            <Cell>
                              <Mono display="block" maxW="330px" truncate title={one.request}>
                                {one.request.replace("/content/", "")}
                              </Mono>
                            </Cell>
                            <Cell>{one.grant ? <Mono>{one.grant}</Mono> : one.detail}</Cell>
                            <Cell right>{one.grant && !one.request.includes("/graphql") && <Act onClick={() => setWhy({ request: one.request, key: one.key ?? "", edition: one.edition })}>Why?</Act>}</Cell>
                          </Row>
                        ))}
                      </Rows>
                    )
                  }
                </Loaded>
              </Section>
              {making && (
                <NewKey
                  types={types}
                  locales={m.locales.filter((l) => !l.retired).map((l) => l.tag)}
                  close={() => setMaking(false)}
                  made={(made) => {
                    setMaking(false);
                    setSecret(made);
                  }}
                />
              )}
            </>
          );
        }}
      </Loaded>
      <SameByCommand command={chosen ? "ubiquon key show " + chosen : "ubiquon key list"} />
      {opening && <OpenWindow of={opening} busy={change.isPending} close={() => setOpening(null)} go={() => change.mutate(opening)} />}
      {secret && <Reveal of={secret} close={() => setSecret(null)} />}
      {why && <WhyWindow start={why} close={() => setWhy(null)} />}
    </Page>
  );
}

function MatrixRow({ reader, name, says, open, own, types, press, everyone, chosen, choose }: { reader?: Key; name: string; says?: string; open: Grant[]; own: Grant[]; types: string[]; press: (type: string, edition: Edition, r: Reach) => void; everyone?: boolean; chosen?: boolean; choose?: () => void }) {
  const [state, colour] = reader ? keyState(reader) : ["", "faint"];
  const off = !!reader?.revoked;
  return (
    <Box as="tr" data-reader={name} bg={everyone ? "color-mix(in srgb, var(--chakra-colors-accent) 7%, transparent)" : chosen ? "color-mix(in srgb, currentColor 5%, transparent)" : undefined}>
      <Box as="td" minW="168px" style={{ paddingLeft: 12 }}>
        {choose ? (
          <Box as="button" onClick={choose} aria-expanded={chosen} color="accent" textAlign="start" cursor="pointer">
            {name}
          </Box>
        ) : (
          <b>{name}</b>
        )}
        <Text fontSize="11.5px" color={colour} whiteSpace="nowrap">
          {says ?? state}
        </Text>
      </Box>
      {types.flatMap((t) =>
        editions.map((e) => {
          const r = everyone ? reach([], open, t, e) : reach(own, open, t, e);
          const fixed = off || r.how === "all" || (everyone && r.says.includes("* *")) || (everyone && open.some((g) => g.type === "*" && g.edition === e));
          return (
            <Box as="td" key={t + e} className={e === "published" ? "first" : undefined} textAlign="center">
              <Box
                as="button"
                {...{ disabled: fixed }}
                aria-label={`${name}: ${t}, ${e}: ${r.says}`}
                title={r.says}
                data-sight={`${t} ${e}`}
                onClick={() => press(t, e, r)}
                w="22px"
                h="22px"
                lineHeight="1"
                cursor={fixed ? "default" : "pointer"}
                color={off ? "faint" : r.how === "none" ? "faint" : r.how === "open" ? "warning" : "accent"}
                _hover={fixed ? undefined : { outline: "1px solid", outlineColor: "accent" }}
              >
                {signs[r.how]}
                {r.locales && (
                  <Box as="span" display="block" fontSize="9px" fontFamily="mono">
                    {r.locales.join(" ")}
                  </Box>
                )}
              </Box>
            </Box>
          );
        }),
      )}
    </Box>
  );
}

function KeyDetail({ k, shown }: { k: Key; shown: (secret: string) => void }) {
  const queries = useQueryClient();
  const [ask, setAsk] = useState<"revoke" | "rotate" | null>(null);
  const [overlap, setOverlap] = useState("24h");
  const [grant, setGrant] = useState("");
  const path = "/keys/" + k.id;
  const run = useMutation({
    mutationFn: (r: { method: string; path: string; body?: unknown }) => call<{ secret?: string }>(r.path, { method: r.method, body: r.body }),
    onSuccess: (out) => {
      setAsk(null);
      setGrant("");
      if (out.secret) shown(out.secret);
    },
    onSettled: () => refreshAll(queries),
  });
  const [state, colour] = keyState(k);
  const facts: [string, React.ReactNode][] = [
    ["Id", <><Mono>{k.id}</Mono><CopyButton text={k.id} label="the id" /></>],
    ["State", <Text key="state" as="span" color={colour}>{state}</Text>],
    ["Site", k.site || "–"],
    ["Requests a minute", k.perMinute || "any number"],
    ["Made", <><When at={k.created} /> by {k.by || "–"}</>],
    ["Last used", k.use ? <><When at={k.use.used} /> from <Mono>{k.use.address}</Mono></> : "never"],
    ["By", k.use?.agent || "–"],
    ["Requests", k.use ? `${k.use.requests}, ${k.use.requests ? Math.round((100 * k.use.hits) / k.use.requests) : 0} % from the cache` : "none"],
  ];
  return (
    <Section title={"Key " + k.name}>
      <Box bg="sheet" borderWidth="1px" borderColor="line" p="4" data-key-detail={k.name}>
        <Failure error={run.error} />
        <Grid templateColumns={{ base: "minmax(0, 1fr)", lg: "1fr 1fr" }} gap="6">
          <Box>
            {facts.map(([name, v]) => (
              <Flex key={name} gap="3" py="0.5">
                <Text color="faint" w="130px" flex="none">
                  {name}
                </Text>
                <Box minW="0" truncate>
                  {v}
                </Box>
              </Flex>
            ))}
          </Box>
          <Box>
            {k.grants.map((g) => (
              <Flex key={grantText(g)} justify="space-between" align="center" borderBottomWidth="1px" borderColor="line" py="1">
                <Mono>{grantText(g)}</Mono>
                {!k.revoked && k.grants.length > 1 && (
                  <Act aria-label={"Remove " + grantText(g)} onClick={() => run.mutate({ method: "PATCH", path, body: { take: [grantText(g)] } })}>
                    Remove
                  </Act>
                )}
              </Flex>
            ))}
            {!k.revoked && (
              <Flex as="form" gap="2" mt="2" onSubmit={(e: React.FormEvent) => (e.preventDefault(), grant && run.mutate({ method: "PATCH", path, body: { add: [grant] } }))}>
                <Input {...inputStyle} fontFamily="mono" aria-label="Grant" placeholder="write preview notice in nb" value={grant} onChange={(e) => setGrant(e.target.value)} />
                <Act type="submit" h="8">
                  Add
                </Act>
              </Flex>
            )}
          </Box>
        </Grid>
        {!k.revoked && (
          <Flex gap="2" mt="4">
            <Act onClick={() => setAsk("rotate")}>Rotate…</Act>
            <Act onClick={() => run.mutate({ method: "PATCH", path, body: { days: 90 } })}>Good for 90 days from now</Act>
            <Act color="failure" onClick={() => setAsk("revoke")}>
              Revoke…
            </Act>
          </Flex>
        )}
      </Box>
      {ask === "revoke" && (
        <Window
          title={`Revoke the key ${k.name}?`}
          open
          close={() => setAsk(null)}
          actions={
            <Main bg="failure" loading={run.isPending} onClick={() => run.mutate({ method: "DELETE", path })}>
              Revoke
            </Main>
          }
        >
          <Text>
            Whoever reads with it is refused at once, on all nodes within two seconds. It cannot be taken back.
            {k.use ? ` It was last used from ${k.use.address}.` : " It was never used."}
          </Text>
        </Window>
      )}
      {ask === "rotate" && (
        <Window
          title={`Rotate the key ${k.name}`}
          open
          close={() => setAsk(null)}
          actions={
            <Main loading={run.isPending} onClick={() => run.mutate({ method: "POST", path: path + "/rotate", body: { overlap } })}>
              Rotate
            </Main>
          }
        >
          <Text mb="3">It gets a new secret. The one that it has now is good for a while still, so that front ends can change over.</Text>
          <Pick label="Overlap" value={overlap} onChange={setOverlap}>
            <option value="0s">end the former secret at once</option>
            <option value="1h">one hour</option>
            <option value="24h">one day</option>
            <option value="168h">one week</option>
          </Pick>
        </Window>
      )}
    </Section>
  );
}

/** Asks once more before something becomes readable for everyone. */
function OpenWindow({ of: t, busy, close, go }: { of: Toggle; busy: boolean; close: () => void; go: () => void }) {
  const seeing = useQuery({ queryKey: key("sights"), queryFn: () => call<{ sights: Sight[] }>("/keys/check", { method: "POST", body: { key: "" } }) });
  const n = seeing.data?.sights.find((s) => s.type === t.type && s.edition === t.edition)?.entries;
  return (
    <Window
      title={`Open ${t.type} (${t.edition}) to everyone?`}
      open
      close={close}
      actions={
        <Main bg={t.edition === "preview" ? "failure" : "accent"} loading={busy} onClick={go}>
          Open it
        </Main>
      }
    >
      <Text mb="2" data-becomes-readable>
        {n === undefined ? "…" : n} {n === 1 ? "entry becomes" : "entries become"} readable by anybody who knows the address, without a key: all fields, all locales, and every one that is {t.edition === "published" ? "published" : "saved"} from now on.
      </Text>
      {t.edition === "preview" && <Text color="failure">✕ This is the preview edition: drafts, too, would be open to everyone.</Text>}
      <Mono color="faint">ubiquon open {t.type}{t.edition === "preview" ? " --edition preview" : ""}</Mono>
    </Window>
  );
}

/** Shows a secret, once. */
function Reveal({ of, close }: { of: { key: Key; secret: string }; close: () => void }) {
  const { environment } = useWho();
  const [seen, setSeen] = useState(false);
  const edition = of.key.grants.some((g) => g.edition === "published" || g.edition === "*") ? "published" : "preview";
  const lines = `UBIQUON_ADDRESS=${location.origin}/content/${environment}/${edition}\nUBIQUON_KEY=${of.secret}`;
  return (
    <Window held title={"The secret of " + of.key.name} open close={close}>
      <Text mb="3">It is shown only now, and kept nowhere. Copy it to where it is needed before you close this.</Text>
      <Flex align="center" gap="2" mb="4">
        <Mono data-secret={seen ? "shown" : "hidden"} wordBreak="break-all">
          {seen ? of.secret : "ubq_" + "•".repeat(38)}
        </Mono>
        <Act onClick={() => setSeen(!seen)}>{seen ? "Hide" : "Show"}</Act>
        <CopyButton text={of.secret} label="the secret" />
      </Flex>
      <Flex align="center" gap="2">
        <Text color="faint">Lines for a front end's environment file</Text>
        <CopyButton text={lines} label="the lines" />
      </Flex>
    </Window>
  );
}

function NewKey({ types, locales, close, made }: { types: string[]; locales: string[]; close: () => void; made: (m: { key: Key; secret: string }) => void }) {
  const queries = useQueryClient();
  const fields = useFields({ name: "", site: "", days: "", perMinute: "" });
  const [ticked, setTicked] = useState<string[]>(["published *"]);
  const [only, setOnly] = useState<string[]>([]);
  const within = only.length ? " in " + only.join(",") : "";
  const tick = (list: string[], set: (l: string[]) => void, v: string) => set(list.includes(v) ? list.filter((x) => x !== v) : [...list, v]);
  const name = fields.watch("name");
  return (
    <Window
      wide
      title="Make a key"
      open
      close={close}
      actions={
        <Main type="submit" form="key" loading={fields.formState.isSubmitting} disabled={!name || ticked.length === 0}>
          Make it
        </Main>
      }
    >
      <Fields
        id="key"
        of={fields}
        submit={async (v) => {
          const out = await call<{ key: Key; secret: string }>("/keys", {
            method: "POST",
            body: {
              name: v.name,
              site: v.site,
              perMinute: Number(v.perMinute) || 0,
              grants: ticked.map((t) => "read " + t + within),
              expires: v.days ? new Date(Date.now() + Number(v.days) * 86_400_000).toISOString() : undefined,
            },
          });
          void refreshAll(queries);
          made(out);
        }}
      >
        <Grid templateColumns={{ base: "1fr 1fr", md: "2fr 1fr 1fr 1fr" }} gap="4">
          <TextField name="name" label="Name" placeholder="who will use it" autoFocus />
          <TextField name="days" label="Days" type="number" placeholder="for ever" help="How long it is good" />
          <TextField name="perMinute" label="Requests a minute" type="number" placeholder="any number" />
          <TextField name="site" label="Site" help="That reads with it, if any" />
        </Grid>
        <Text color="faint" mb="1">
          It may read. More verbs can be added to the key once it is made.
        </Text>
        <Box as="table" mb="4" css={{ "& td, & th": { padding: "2px 14px 2px 0", textAlign: "start", fontWeight: 400 } }}>
          <tbody>
            {["*", ...types].map((t) => (
              <tr key={t}>
                <th scope="row">{t === "*" ? <b>every type</b> : <Mono>{t}</Mono>}</th>
                {editions.map((e) => (
                  <td key={e}>
                    <Tick name={`${t} ${e}`} checked={ticked.includes(`${e} ${t}`)} onChange={() => tick(ticked, setTicked, `${e} ${t}`)}>
                      {e}
                    </Tick>
                  </td>
                ))}
              </tr>
            ))}
          </tbody>
        </Box>
        <Text color="faint" mb="1">
          In these locales only; none ticked means all
        </Text>
        <Flex gap="4" mb="3" wrap="wrap">
          {locales.map((l) => (
            <Tick key={l} checked={only.includes(l)} onChange={() => tick(only, setOnly, l)}>
              <Mono>{l}</Mono>
            </Tick>
          ))}
        </Flex>
        <Mono color="faint">
          ubiquon key create {name || "NAME"} {ticked.map((t) => `--grant "read ${t}${within}"`).join(" ")}
        </Mono>
      </Fields>
    </Window>
  );
}
