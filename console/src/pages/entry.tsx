import { Box, Flex, Grid, Heading, Input, Text } from "@chakra-ui/react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState, type ReactNode } from "react";
import { Link, useNavigate, useParams, useSearchParams } from "react-router";
import { call, edit, Problem, type Difference, type Edit, type EntryDetail, type Model } from "../api";
import { Differences } from "../differences";
import { EntryForm, LocalePair } from "../entry-form";
import { PendingSchedule, PublishWindow, ReviewWindow, TakeAwayWindow } from "../entry-windows";
import { EventRows } from "../event-rows";
import { useDraft, type Draft } from "../lib/draft";
import { Unsaved } from "../lib/unsaved";
import { Act, Cell, CopyButton, EntryLink, Failure, Loaded, LocaleMarks, Main, Mono, Page, Pick, Row, Rows, SameByCommand, Section, State, When, Window } from "../parts";
import { useWho } from "../shell";
import { useModel } from "../use-model";
import { WhyWindow } from "../why";

// One name for this tab, across reloads.
const sessionName = sessionStorage.getItem("ubiquon.session") ?? crypto.randomUUID();
sessionStorage.setItem("ubiquon.session", sessionName);

/** Tells that the entry is open here, and returns who else has it open. */
function useOthers(id: string): string[] {
  const [others, setOthers] = useState<string[]>([]);
  useEffect(() => {
    const tell = (closed: boolean) =>
      call<{ others: string[] }>(`/entries/${encodeURIComponent(id)}/open`, { method: "POST", body: { session: sessionName, closed } }).then(
        (a) => setOthers(a.others),
        () => {}, // told again soon
      );
    void tell(false);
    const every = setInterval(() => void tell(false), 10_000);
    return () => {
      clearInterval(every);
      void tell(true);
    };
  }, [id]);
  return others;
}

export function EntryPage() {
  const { id = "" } = useParams();
  const entry = useQuery({ queryKey: ["entry", id], queryFn: ({ signal }) => call<EntryDetail>("/entries/" + encodeURIComponent(id), { signal }) });
  const model = useModel({ staleTime: 60_000 });
  return (
    <Loaded query={{ data: entry.data && model.data && { e: entry.data, m: model.data }, error: entry.error ?? model.error }}>{({ e, m }) => <Editor key={e.id} e={e} model={m} />}</Loaded>
  );
}

/** A new entry, which gets its page once it is saved. */
export function NewEntryPage() {
  const [params, setParams] = useSearchParams();
  const type = params.get("type") ?? "";
  const model = useModel({ staleTime: 60_000 });
  const navigate = useNavigate();
  const who = useWho();
  const [draft, setDraft] = useDraft(who.name, "new " + type);
  const fields = draft?.fields ?? {};
  const [saved, setSaved] = useState("");
  const first = model.data?.locales.find((l) => !l.retired)?.tag ?? "en";
  const [pair, setPair] = useState<[string, string] | null>(null);
  const [source, target] = pair ?? [first, ""];
  const save = useMutation({
    mutationFn: () => edit({ type, save: fields }),
    onSuccess: (out) => {
      setDraft(null);
      setSaved(out.entries[0]!.id);
    },
  });
  useEffect(() => {
    if (saved) void navigate("/entries/" + saved, { replace: true });
  }, [saved, navigate]);
  const t = model.data?.types.find((t) => t.name === type);
  return (
    <Page
      title={"New " + (t?.label ?? "entry")}
      actions={
        t && (
          <Main loading={save.isPending} onClick={() => save.mutate()}>
            Save draft
          </Main>
        )
      }
    >
      <Loaded query={model}>
        {(m) =>
          t ? (
            <>
              <Failure error={save.error} />
              <LocalePair model={m} source={source} target={target} onChange={(s, t) => setPair([s, t])} />
              <EntryForm model={m} typeName={type} value={fields} set={(fields) => setDraft({ fields, began: 0 })} source={source} target={target} problem={save.error} />
              <Unsaved unsaved={draft !== null} what="the new entry" drop={() => setDraft(null)} />
            </>
          ) : (
            <Flex gap="2" wrap="wrap">
              {m.types.map((t) => (
                <Act key={t.name} onClick={() => setParams({ type: t.name })}>
                  {t.label}
                </Act>
              ))}
            </Flex>
          )
        }
      </Loaded>
      <SameByCommand command={`ubiquon entry create ${type || "TYPE"}`} />
    </Page>
  );
}

function Side({ title, children }: { title: string; children: ReactNode }) {
  return (
    <Box borderTopWidth="1px" borderColor="line" pt="2" pb="3">
      <Heading as="h2" fontSize="12px" fontWeight="600" color="faint" mb="1">
        {title}
      </Heading>
      {children}
    </Box>
  );
}

type Open = "why" | "publish" | "unpublish" | "submit" | "approve" | "return" | "retire" | "delete" | "discard" | null;

function Editor({ e, model }: { e: EntryDetail; model: Model }) {
  const queries = useQueryClient();
  const navigate = useNavigate();
  const [params, setParams] = useSearchParams();
  const others = useOthers(e.id);
  const who = useWho();
  // The draft keeps the revision that it began with; what came since is not overwritten.
  const [draft, setDraft] = useDraft(who.name, e.id);
  const [message, setMessage] = useState("");
  const [open, setOpen] = useState<Open>(null);
  const [said, setSaid] = useState("");
  const local = e.origin === "local" && (who.may.write || who.may.publish);
  const type = model.types.find((t) => t.name === e.type);
  const first = model.locales.find((l) => !l.retired)?.tag ?? "en";
  const source = params.get("source") ?? first;
  const target = params.get("beside") ?? "";
  const view = params.get("view") ?? "edit";
  const put = (name: string, value: string) =>
    setParams((before) => {
      const next = new URLSearchParams(before);
      if (value) next.set(name, value);
      else next.delete(name);
      return next;
    });

  const save = useMutation({
    mutationFn: ({ sent, over }: { sent: Draft; over?: number }) => edit({ id: e.id, type: e.type, save: sent.fields, message, ifRevision: over ?? sent.began }),
    onSuccess: async (out, { sent }) => {
      setMessage("");
      setSaid(["Draft saved.", ...(out.warnings ?? []).map((w) => `${w.path}: ${w.text}.`)].join(" "));
      await queries.invalidateQueries();
      // What was typed while the save was under way is a draft of the revision that it made.
      setDraft((now) => (now === sent || now === null ? null : { ...now, began: out.entries[0]?.revision ?? now.began }));
    },
  });
  const act = useMutation({ mutationFn: (what: { do: Edit["do"]; revision?: number }) => edit({ id: e.id, ...what }), onSettled: () => queries.invalidateQueries() });
  const copy = useMutation({
    mutationFn: () => call<{ entries: { id: string }[] }>(`/entries/${e.id}/duplicate`, { method: "POST" }),
    onSuccess: (out) => navigate("/entries/" + out.entries[0]!.id),
  });
  const preview = useMutation({
    mutationFn: async () => {
      const out = await call<{ addresses: { site: string; address: string }[] }>(`/entries/${e.id}/preview`, { method: "POST", body: { locale: target || source } });
      if (out.addresses.length === 0) throw new Problem(404, "No preview", "No site shows a preview of it: it has no path, or no site in sites.yaml has a preview address.");
      return out;
    },
    onSuccess: (out) => {
      for (const a of out.addresses) window.open(a.address, "_blank", "noreferrer");
    },
  });
  const unsaved = draft !== null;
  const conflict = save.error instanceof Problem ? save.error.body.conflict : undefined;
  const pending = (e.schedules ?? []).filter((s) => s.state === "pending");

  return (
    <Page
      title={e.title || e.id}
      says={
        <Flex as="span" gap="4" align="baseline">
          <State of={e.state} />
          <span>{type?.label ?? e.type}</span>
        </Flex>
      }
      actions={
        <Flex gap="2">
          {(["edit", "differences", "history"] as const).map((name) => (
            <Act key={name} aria-pressed={view === name} borderColor={view === name ? "accent" : "line"} color={view === name ? "accent" : "ink"} onClick={() => put("view", name === "edit" ? "" : name)}>
              {{ edit: local ? "Edit" : "Fields", differences: "Differences", history: "History" }[name]}
            </Act>
          ))}
        </Flex>
      }
    >
      {others.length > 0 && (
        <Text mb="3" color="warning" role="status">
          ◐ {others.join(", ")} {others.length === 1 ? "has" : "have"} this entry open too.
        </Text>
      )}
      {said && !unsaved && (
        <Text mb="3" color="good" role="status">
          ● {said}
        </Text>
      )}
      <Grid templateColumns="minmax(0, 1fr) 236px" gap="8">
        <Box>
          {view === "edit" && (
            <>
              {!conflict && <Failure error={save.error} />}
              <Failure error={act.error ?? copy.error} />
              <LocalePair
                model={model}
                source={source}
                target={target}
                onChange={(s, t) =>
                  setParams((before) => {
                    const next = new URLSearchParams(before);
                    next.set("source", s);
                    if (t) next.set("beside", t);
                    else next.delete("beside");
                    return next;
                  })
                }
              />
              <EntryForm model={model} typeName={e.type} value={draft?.fields ?? e.newest} set={(fields) => setDraft((now) => ({ fields, began: now?.began ?? e.revision }))} source={source} target={target} readOnly={!local} problem={save.error} />
            </>
          )}
          {view === "differences" && <CompareView e={e} />}
          {view === "history" && <HistoryView e={e} restore={(revision) => act.mutate({ do: "restore", revision })} canRestore={!!local} />}
        </Box>
        <Box>
          {local && (
            <Flex direction="column" gap="2" mb="4">
              {unsaved && <Input size="sm" bg="sheet" borderColor="line" placeholder="What was changed, if worth a word" aria-label="Message" value={message} onChange={(ev) => setMessage(ev.target.value)} />}
              {unsaved ? (
                <>
                  <Main loading={save.isPending} onClick={() => draft && save.mutate({ sent: draft })}>
                    Save draft
                  </Main>
                  <Act onClick={() => setDraft(null)}>Put back what was saved</Act>
                </>
              ) : (
                <>
                  <Main disabled={!who.may.publish || e.state === "published" && e.publishedRevision === e.revision} onClick={() => setOpen("publish")}>
                    Publish…
                  </Main>
                  <Flex gap="1.5" wrap="wrap">
                    {e.review === "submitted" && who.may.publish ? (
                      <>
                        <Act onClick={() => setOpen("approve")}>Approve…</Act>
                        <Act onClick={() => setOpen("return")}>Send back…</Act>
                      </>
                    ) : (
                      (e.behind || e.publishedRevision === 0) && <Act onClick={() => setOpen("submit")}>Submit for review…</Act>
                    )}
                    {e.publishedRevision > 0 && who.may.publish && <Act onClick={() => setOpen("unpublish")}>Unpublish…</Act>}
                    {e.behind && <Act onClick={() => setOpen("discard")}>Discard draft…</Act>}
                    <Act loading={copy.isPending} onClick={() => copy.mutate()}>
                      Duplicate
                    </Act>
                    {!e.retired && <Act onClick={() => setOpen("retire")}>Retire…</Act>}
                    <Act color="failure" onClick={() => setOpen("delete")}>
                      Delete…
                    </Act>
                  </Flex>
                </>
              )}
            </Flex>
          )}
          {e.origin === "local" && !local && (
            <Side title="Read-only">
              <Text>Your account may read, and not write.</Text>
            </Side>
          )}
          {e.origin !== "local" && (
            <Side title="Written elsewhere">
              <Text>It comes from {e.origin}, and is read-only here.</Text>
              {e.editAt && (
                <a href={e.editAt} target="_blank" rel="noreferrer">
                  Edit it there
                </a>
              )}
            </Side>
          )}
          <Side title="Readers">
            <Flex gap="1.5" wrap="wrap">
              <Act onClick={() => setOpen("why")}>Why not visible?</Act>
              <Act loading={preview.isPending} onClick={() => preview.mutate()}>
                Preview on the site
              </Act>
            </Flex>
            <Failure error={preview.error} />
          </Side>
          {pending.length > 0 && (
            <Side title="Scheduled">
              {pending.map((s) => (
                <PendingSchedule key={s.id} of={s} />
              ))}
            </Side>
          )}
          <Side title="Translations">
            <LocaleMarks of={e.locales} live={e.live} />
            <Text color="faint" fontSize="12px" mt="1">
              readers have {e.live?.length ? e.live.join(", ") : "none"}
            </Text>
          </Side>
          <Side title="Revisions">
            <Text>
              {e.revision}
              {e.publishedRevision > 0 ? `, readers see ${e.publishedRevision}` : ", nothing published"}
            </Text>
            <Text color="faint" fontSize="12px">
              saved <When at={e.updated} /> {e.revisions[0]?.by && "by " + e.revisions[0].by}
            </Text>
            {e.published && (
              <Text color="faint" fontSize="12px">
                published <When at={e.published} />
              </Text>
            )}
          </Side>
          {e.reviews?.[0] && (
            <Side title="Review">
              <State of={e.reviews[0].what} /> revision {e.reviews[0].revision} by {e.reviews[0].by}
              {e.reviews[0].remark && <Text>“{e.reviews[0].remark}”</Text>}
            </Side>
          )}
          {!!e.referredBy?.length && (
            <Side title="Referred to by">
              {e.referredBy.map((r) => (
                <Text key={r.entry + r.field}>
                  <EntryLink id={r.entry} title={r.title} />{" "}
                  <Text as="span" color="faint" fontSize="12px">
                    {r.type}, {r.field}
                  </Text>
                </Text>
              ))}
            </Side>
          )}
          {!!e.formerPaths?.length && (
            <Side title="Lived at">
              {e.formerPaths.map((p) => (
                <Mono key={p} display="block">
                  {p}
                </Mono>
              ))}
            </Side>
          )}
          <Side title="Id">
            <Mono>{e.id}</Mono>
            <CopyButton text={e.id} label="the id" />
          </Side>
        </Box>
      </Grid>
      {open === "why" && <WhyWindow start={{ entry: e.id, locale: target || undefined }} close={() => setOpen(null)} />}
      {(open === "publish" || open === "unpublish") && <PublishWindow entries={[e]} action={open} model={model} close={() => setOpen(null)} done={setSaid} />}
      {(open === "submit" || open === "approve" || open === "return") && <ReviewWindow id={e.id} action={open} close={() => setOpen(null)} />}
      {(open === "retire" || open === "delete" || open === "discard") && <TakeAwayWindow ids={[e.id]} titles={`“${e.title}”`} action={open} close={() => setOpen(null)} done={() => open === "delete" && navigate("/entries")} />}
      {conflict && (
        <Window
          wide
          title="Saved meanwhile by somebody else"
          open
          close={() => save.reset()}
          actions={
            <>
              <Act
                onClick={() => {
                  setDraft(null);
                  save.reset();
                }}
              >
                Take theirs, drop mine
              </Act>
              <Main onClick={() => draft && save.mutate({ sent: draft, over: conflict.present.number })}>Save mine over it</Main>
            </>
          }
        >
          <Text mb="3">
            {conflict.present.by} saved revision {conflict.present.number} at <When at={conflict.present.at} />. Both revisions are kept whichever you choose.
          </Text>
          <Differences all={conflict.differences ?? []} before={`Revision ${conflict.present.number}`} after="Yours" />
        </Window>
      )}
      <Unsaved unsaved={unsaved} what={`“${e.title || e.id}”`} drop={() => setDraft(null)} />
      <SameByCommand command={view === "differences" ? "ubiquon entry diff " + e.id : local && view === "edit" ? "ubiquon entry edit " + e.id : "ubiquon entry show " + e.id} />
    </Page>
  );
}

function CompareView({ e }: { e: EntryDetail }) {
  const [params, setParams] = useSearchParams();
  const from = params.get("from") ?? (e.publishedRevision > 0 ? "0" : String(Math.max(1, e.revision - 1)));
  const to = params.get("to") ?? String(e.revision);
  const compared = useQuery({
    queryKey: ["differences", e.id, from, to],
    queryFn: ({ signal }) => call<{ differences: Difference[] }>(`/entries/${e.id}/differences?from=${from}&to=${to}`, { signal }),
  });
  const name = (n: string) => (n === "0" ? "What readers get" : n === String(e.revision) ? `Revision ${n}, the newest` : "Revision " + n);
  const choose = (which: string, label: string, value: string) => (
    <Pick label={label} value={value} onChange={(v) => setParams((before) => ({ ...Object.fromEntries(before), [which]: v }))}>
      {which === "from" && e.publishedRevision > 0 && <option value="0">What readers get</option>}
      {e.revisions.map((r) => (
        <option key={r.number} value={r.number}>
          {name(String(r.number))}
        </option>
      ))}
    </Pick>
  );
  return (
    <>
      <Flex gap="3" mb="3" align="center">
        {choose("from", "Compare", from)}
        <Text color="faint">with</Text>
        {choose("to", "With", to)}
      </Flex>
      <Loaded query={compared}>{(c) => <Differences all={c.differences} before={name(from)} after={name(to)} />}</Loaded>
    </>
  );
}

function HistoryView({ e, restore, canRestore }: { e: EntryDetail; restore: (revision: number) => void; canRestore: boolean }) {
  return (
    <>
      <Section title="Revisions">
        <Rows label="Revisions" head={["Revision", "Saved", "By", "Message", ""]}>
          {e.revisions.map((r) => (
            <Row key={r.number} data-revision={String(r.number)}>
              <Cell>
                {r.number} {r.number === e.publishedRevision && <State of="published" />}
              </Cell>
              <Cell>
                <When at={r.at} />
              </Cell>
              <Cell>{r.by}</Cell>
              <Cell>{r.message}</Cell>
              <Cell>
                {r.number !== e.revision && (
                  <Flex gap="2">
                    <Link to={`?view=differences&from=${r.number}`}>compare</Link>
                    {canRestore && <Act onClick={() => restore(r.number)}>Restore</Act>}
                  </Flex>
                )}
              </Cell>
            </Row>
          ))}
        </Rows>
      </Section>
      {!!e.reviews?.length && (
        <Section title="Review">
          <Rows label="Review" head={["Revision", "At", "By", "What", "Remark"]}>
            {e.reviews.map((r) => (
              <Row key={r.at + r.what}>
                <Cell>{r.revision}</Cell>
                <Cell>
                  <When at={r.at} />
                </Cell>
                <Cell>{r.by}</Cell>
                <Cell>
                  <State of={r.what} />
                </Cell>
                <Cell>{r.remark}</Cell>
              </Row>
            ))}
          </Rows>
        </Section>
      )}
      {!!e.schedules?.length && (
        <Section title="Schedules">
          {e.schedules.map((s) => (
            <PendingSchedule key={s.id} of={s} />
          ))}
        </Section>
      )}
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
                <Mono>{differing(c.fields ?? null)}</Mono>
              </Cell>
              <Cell>
                {c.cause.kind} {c.cause.name}
              </Cell>
            </Row>
          ))}
        </Rows>
      </Section>
    </>
  );
}

/** The fields that differ, each once, without what is only said about the entry. */
function differing(fields: Record<string, string[]> | null): string {
  const names = new Set(Object.values(fields ?? {}).flat());
  const own = [...names].filter((n) => !n.startsWith("about."));
  return own.length === 0 ? "dates only" : own.length > 5 ? own.slice(0, 5).join(" ") + " …" : own.join(" ");
}
