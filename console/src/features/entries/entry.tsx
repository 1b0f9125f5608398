import { Box, Flex, Grid, Input, Text } from "@chakra-ui/react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useRef, useState } from "react";
import { useNavigate, useParams, useSearchParams } from "react-router";
import { call, edit, key, Problem, refreshAll, type Edit, type EntryDetail, type Model } from "../../api";
import { useWho } from "../../lib/who";
import { useActions, useSaveKey } from "../../lib/actions";
import { usePutAddress } from "../../lib/address";
import { useDraft, type Draft } from "../../lib/draft";
import { noteRecent } from "../../lib/recent";
import { Unsaved } from "../../lib/unsaved";
import { useModel } from "../../lib/use-model";
import { Act, Failure, Loaded, Main, Page, SameByCommand, State, toast, When, Window } from "../../ui";
import { WhyWindow } from "../why/why-window";
import { Differences } from "./differences";
import { EntryForm, LocalePair } from "./entry-form";
import { PublishWindow, ReviewWindow, TakeAwayWindow } from "./entry-windows";
import { CompareView, HistoryView } from "./history";
import { OnPages } from "./on-pages";
import { usePresence } from "./presence";
import { PreviewPane } from "./preview-pane";
import { pruned } from "./pruned";
import { SaveBar } from "./save-bar";
import { Facts, Side } from "./side";

export function EntryPage() {
  const { id = "" } = useParams();
  const entry = useQuery({ queryKey: key("entry", id), queryFn: ({ signal }) => call<EntryDetail>("/entries/" + encodeURIComponent(id), { signal }) });
  const model = useModel({ staleTime: 60_000 });
  return (
    <Loaded query={{ data: entry.data && model.data && { e: entry.data, m: model.data }, error: entry.error ?? model.error }}>{({ e, m }) => <Editor key={e.id} e={e} model={m} />}</Loaded>
  );
}

type Open = "why" | "publish" | "unpublish" | "submit" | "approve" | "return" | "retire" | "delete" | "discard" | null;

function Editor({ e, model }: { e: EntryDetail; model: Model }) {
  const queries = useQueryClient();
  const navigate = useNavigate();
  const [params] = useSearchParams();
  const presence = usePresence(e.id);
  const who = useWho();
  // The draft keeps the revision that it began with; what came since is not overwritten.
  const [draft, setDraft] = useDraft(who.name, e.id);
  const [message, setMessage] = useState("");
  const [open, setOpen] = useState<Open>(null);
  const [broken, setBroken] = useState<string[]>([]);
  const local = e.origin === "local" && (who.may.write || who.may.publish);
  const type = model.types.find((t) => t.name === e.type);
  const first = model.locales.find((l) => !l.retired)?.tag ?? "en";
  const source = params.get("source") ?? first;
  const target = params.get("beside") ?? "";
  const view = params.get("view") ?? "edit";
  const framed = params.get("preview") === "site";
  const putAddress = usePutAddress();
  const put = (name: string, value: string) => putAddress({ [name]: value });

  const save = useMutation({
    mutationFn: ({ sent, over }: { sent: Draft; over?: number }) => edit({ id: e.id, type: e.type, save: pruned(sent.fields), message, ifRevision: over ?? sent.began }),
    onSuccess: async (out, { sent }) => {
      setMessage("");
      mine.current = Math.max(mine.current, out.entries[0]?.revision ?? 0);
      await refreshAll(queries);
      // What was typed while the save was under way is a draft of the revision that it made.
      setDraft((now) => (now === sent || now === null ? null : { ...now, began: out.entries[0]?.revision ?? now.began }));
      toast.done(["Draft saved.", ...(out.warnings ?? []).map((w) => `${w.path}: ${w.text}.`)].join(" "));
    },
  });
  const act = useMutation({ mutationFn: (what: { do: Edit["do"]; revision?: number }) => edit({ id: e.id, ...what }), onSettled: () => refreshAll(queries) });
  const copy = useMutation({
    mutationFn: () => call<{ entries: { id: string }[] }>(`/entries/${e.id}/duplicate`, { method: "POST" }),
    onSuccess: (out) => navigate("/entries/" + out.entries[0]!.id),
  });
  const unsaved = draft !== null;
  const conflict = save.error instanceof Problem ? save.error.body.conflict : undefined;
  const run = draft && broken.length === 0 && !save.isPending ? () => save.mutate({ sent: draft }) : null;
  useSaveKey(run);
  useActions([
    ...(run ? [{ name: "Save draft", run, keys: "Ctrl S" }] : []),
    ...(local && !unsaved && who.may.publish ? [{ name: "Publish…", run: () => setOpen("publish") }] : []),
    ...(local && !unsaved ? [{ name: "Duplicate", run: () => copy.mutate() }] : []),
    { name: "Why not visible?", run: () => setOpen("why") },
    { name: framed ? "Hide the preview" : "Preview on the site", run: () => put("preview", framed ? "" : "site") },
    { name: "Differences", run: () => put("view", "differences") },
    { name: "History", run: () => put("view", "history") },
  ]);
  useEffect(() => noteRecent(who.environment, { id: e.id, title: e.title || e.id }), [who.environment, e.id, e.title]);
  // What somebody else saved meanwhile is told; their own saves are known to those who made them.
  const mine = useRef(e.revision);
  const newest = e.revisions[0];
  useEffect(() => {
    if (!newest || newest.number <= mine.current) return;
    mine.current = newest.number;
    if (newest.by !== who.name) toast.news(`${newest.by} saved revision ${newest.number} of “${e.title || e.id}”.`);
  }, [newest, who.name, e.title, e.id]);

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
          <Act aria-pressed={framed} borderColor={framed ? "accent" : "line"} color={framed ? "accent" : "ink"} onClick={() => put("preview", framed ? "" : "site")}>
            Preview on the site
          </Act>
        </Flex>
      }
    >
      {presence.others.length > 0 && (
        <Text mb="3" color="warning" role="status">
          ◐ {presence.others.join(", ")} {presence.others.length === 1 ? "has" : "have"} this entry open too.
        </Text>
      )}
      <Grid templateColumns={{ base: "minmax(0, 1fr)", lg: framed ? "minmax(0, 1fr) minmax(0, 1fr)" : "minmax(0, 1fr) 236px" }} gap="8">
        <Box>
          {view === "edit" && (
            <>
              {!conflict && <Failure error={save.error} />}
              <Failure error={act.error ?? copy.error} />
              <LocalePair
                model={model}
                source={source}
                target={target}
                onChange={(s, t) => putAddress({ source: s, beside: t })}
              />
              <EntryForm model={model} typeName={e.type} value={draft?.fields ?? e.newest} set={(fields) => setDraft((now) => ({ fields, began: now?.began ?? e.revision }))} source={source} target={target} readOnly={!local} problem={save.error} broken={setBroken} editing={presence.editing} touch={presence.touch} />
            </>
          )}
          {view === "differences" && <CompareView e={e} />}
          {view === "history" && <HistoryView e={e} restore={(revision) => act.mutate({ do: "restore", revision })} canRestore={!!local} />}
        </Box>
        <Box minW="0">
          {framed && <PreviewPane e={e} locale={target || source} />}
          {local && (
            <Flex direction="column" gap="2" mb="4">
              {unsaved ? (
                <Text color="warning">◐ Not saved yet.</Text>
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
            <Side title="From another origin">
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
            </Flex>
          </Side>
          {e.publishedRevision > 0 && <OnPages entry={e.id} />}
          <Facts e={e} />
        </Box>
      </Grid>
      {local && unsaved && (
        <SaveBar broken={broken}>
          <Input size="sm" bg="sheet" borderColor="control" flex="1 1 200px" placeholder="What was changed, if worth a word" aria-label="Message" value={message} onChange={(ev) => setMessage(ev.target.value)} />
          <Act h="8" onClick={() => setDraft(null)}>
            Discard changes
          </Act>
          <Main loading={save.isPending} disabled={broken.length > 0} onClick={() => draft && save.mutate({ sent: draft })}>
            Save draft
          </Main>
        </SaveBar>
      )}
      {open === "why" && <WhyWindow start={{ entry: e.id, locale: target || undefined }} close={() => setOpen(null)} />}
      {(open === "publish" || open === "unpublish") && <PublishWindow entries={[e]} action={open} model={model} close={() => setOpen(null)} done={toast.done} />}
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
                Take theirs, discard mine
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
