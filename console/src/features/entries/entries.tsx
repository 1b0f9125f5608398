import { Flex, Input, Text } from "@chakra-ui/react";
import { keepPreviousData, useMutation, useQueries, useQueryClient } from "@tanstack/react-query";
import { memo, useCallback, useEffect, useMemo, useState } from "react";
import { Link, useNavigate, useSearchParams } from "react-router";
import { call, edit, key, ownTypes, refreshAll, states, type Entry, type Model } from "../../api";
import { usePutAddress } from "../../lib/address";
import { useModel } from "../../lib/use-model";
import { Act, Empty, Failure, List, LocaleMarks, Main, Page, Pick, SameByCommand, Skeletons, State, toast, useSort, When, type Column } from "../../ui";
import { FilterBar, Views } from "../../ui/filter-bar";
import { PublishWindow, TakeAwayWindow } from "./entry-windows";

// How many entries are fetched at once; those on the screen come first.
const chunk = 100;
// As many as one edit takes.
const mostChosen = 500;
const filters = ["type", "state", "search", "missing", "filter"];

const columns: Column<Entry>[] = [
  { name: "Title", sort: "title", head: true, cell: (e) => <Link to={"/entries/" + e.id}>{e.title || e.id}</Link> },
  { name: "Type", sort: "type", width: "120px", cell: (e) => e.type },
  {
    name: "State",
    width: "150px",
    cell: (e) => (
      <>
        <State of={e.state} /> {e.next && <When at={e.next} />}
      </>
    ),
  },
  { name: "Translations", width: "170px", cell: (e) => <LocaleMarks of={e.locales} live={e.live} /> },
  { name: "Origin", sort: "origin", width: "130px", cell: (e) => e.origin },
  { name: "Saved", sort: "updated", width: "140px", cell: (e) => <When at={e.updated} /> },
];

/** The entries that fit, fetched as they come onto the screen. */
function useEntries(search: string) {
  const [visible, setVisible] = useState<{ of: string; chunks: [number, number] }>({ of: search, chunks: [0, 0] });
  const [from, to] = visible.of === search ? visible.chunks : [0, 0];
  const wanted = [...new Set([0, ...Array.from({ length: to - from + 1 }, (_, i) => from + i)])];
  const parts = useQueries({
    queries: wanted.map((n) => ({
      queryKey: key("entries", search, n),
      queryFn: ({ signal }: { signal: AbortSignal }) => call<{ items: Entry[]; total: number }>(`/entries?${search}&limit=${chunk}&offset=${n * chunk}`, { signal }),
      placeholderData: keepPreviousData,
    })),
  });
  const shown = useCallback(
    (first: number, last: number) => {
      const [a, b] = [Math.floor(first / chunk), Math.floor(last / chunk)];
      setVisible((now) => (now.of === search && now.chunks[0] === a && now.chunks[1] === b ? now : { of: search, chunks: [a, b] }));
    },
    [search],
  );
  const total = parts[0]?.data?.total;
  const loaded = parts.map((p) => p.data);
  const rows = useMemo(() => {
    const out: (Entry | undefined)[] = Array.from({ length: total ?? 0 });
    wanted.forEach((n, i) => loaded[i]?.items.forEach((e, j) => n * chunk + j < out.length && (out[n * chunk + j] = e)));
    return out;
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [total, wanted.join(), ...loaded]);
  return { rows, total, shown, error: parts.find((p) => p.error)?.error ?? null };
}

/** What the list is narrowed by. It is drawn again when that changes, and not as the list is scrolled. */
const Filters = memo(function Filters({ typed, setTyped, params, set, model }: { typed: string; setTyped: (text: string) => void; params: URLSearchParams; set: (name: string, value: string) => void; model?: Model }) {
  const get = (name: string) => params.get(name) ?? "";
  return (
    <Flex gap="3" mb="3" align="center" wrap="wrap">
      <Input size="sm" maxW="230px" bg="sheet" borderColor="control" placeholder="Title, slug or id" aria-label="Search" value={typed} onChange={(e) => setTyped(e.target.value)} />
      <Pick label="Type" value={get("type")} onChange={(v) => set("type", v)} w="160px">
        <option value="">every type</option>
        {ownTypes(model).map((t) => (
          <option key={t.name} value={t.name}>
            {t.label}
          </option>
        ))}
      </Pick>
      <Pick label="State" value={get("state")} onChange={(v) => set("state", v)} w="140px">
        <option value="">every state</option>
        {states.map((s) => (
          <option key={s}>{s}</option>
        ))}
      </Pick>
      <Pick label="Not translated into" value={get("missing")} onChange={(v) => set("missing", v)} w="200px">
        <option value="">translated or not</option>
        {model?.locales
          .filter((l) => !l.retired)
          .map((l) => (
            <option key={l.tag} value={l.tag}>
              not wholly in {l.name || l.tag}
            </option>
          ))}
      </Pick>
      <Views page="entries" />
    </Flex>
  );
});

const isLocal = (e: Entry) => e.origin === "local";
const titleOf = (e: Entry) => e.title || e.id;

export function EntriesPage() {
  const [params] = useSearchParams();
  const get = (name: string) => params.get(name) ?? "";
  const [sort, setSort] = useSort("-updated");
  const model = useModel({ staleTime: 60_000 });

  const put = usePutAddress();
  const set = useCallback(
    // A filter is on the fields of a type, and goes with it.
    (name: string, value: string) => put({ [name]: value, ...(name === "type" && { filter: "" }) }, { replace: name === "search" }),
    [put],
  );

  // What is being typed stays here; the address follows when the typing rests.
  const [typed, setTyped] = useState(get("search"));
  const [address, setAddress] = useState(typed);
  if (get("search") !== address) {
    // The address has changed by itself: Back, or a link.
    setAddress(get("search"));
    setTyped(get("search"));
  }
  useEffect(() => {
    if (typed === address) return;
    const rested = setTimeout(() => {
      setAddress(typed);
      set("search", typed);
    }, 200);
    return () => clearTimeout(rested);
  });

  const asked = new URLSearchParams();
  for (const name of filters) if (get(name)) asked.set(name, get(name));
  if (get("sort")) asked.set("sort", sort);
  const { rows, total, shown, error } = useEntries(asked.toString());

  const navigate = useNavigate();
  const queries = useQueryClient();
  const [chosen, setChosen] = useState<Record<string, Entry>>({});
  const [open, setOpen] = useState<"publish" | "unpublish" | "retire" | "delete" | null>(null);
  const bulk = Object.values(chosen);
  const submit = useMutation({
    mutationFn: () => edit(...bulk.map((e) => ({ id: e.id, do: "submit" as const }))),
    onSuccess: () => {
      toast.done(`${bulk.length} submitted for review`);
      setChosen({});
    },
    onSettled: () => refreshAll(queries),
  });
  const all = useMutation({
    mutationFn: () => call<{ items: Entry[] }>(`/entries?${asked}&origin=local&limit=${mostChosen}`),
    onSuccess: ({ items }) => setChosen(Object.fromEntries(items.map((e) => [e.id, e]))),
  });
  const done = (text: string) => {
    setChosen({});
    toast.done(text);
  };
  const choice = {
    has: (e: Entry) => e.id in chosen,
    can: isLocal,
    name: titleOf,
    set: (some: Entry[], yes: boolean) =>
      setChosen((before) => {
        const next = { ...before };
        for (const e of some) {
          if (yes) next[e.id] = e;
          else delete next[e.id];
        }
        return next;
      }),
  };

  const command = ["ubiquon entry list", ...[...filters, "sort"].filter(get).map((n) => `--${n} '${get(n)}'`)].join(" ");
  return (
    <Page title="Entries" says={total !== undefined && `${total} in all`} actions={<Main onClick={() => navigate("/entries/new" + (get("type") ? "?type=" + get("type") : ""))}>New entry</Main>}>
      <Filters typed={typed} setTyped={setTyped} params={params} set={set} model={model.data} />
      {get("type") && <FilterBar model={model.data} type={get("type")} value={get("filter")} set={(text) => set("filter", text)} error={error} placeholder="A condition on its fields in CQL2, as in title LIKE 'F%' AND updated > TIMESTAMP('2026-11-01T00:00:00Z')" />}
      <Failure error={submit.error ?? all.error} />
      {bulk.length > 0 && (
        <Flex gap="2" mb="3" align="center" wrap="wrap" data-bulk={bulk.length} position="sticky" top={{ base: "44px", lg: "0" }} bg="paper" py="2" zIndex="2">
          <Text fontWeight="600" role="status">
            {bulk.length} selected
          </Text>
          {(total ?? 0) > bulk.length && (
            <Act loading={all.isPending} onClick={() => all.mutate()}>
              {`Select all matching${(total ?? 0) > mostChosen ? `, ${mostChosen} at most` : ""}`}
            </Act>
          )}
          <Act onClick={() => setOpen("publish")}>Publish…</Act>
          <Act onClick={() => setOpen("unpublish")}>Unpublish…</Act>
          <Act loading={submit.isPending} onClick={() => submit.mutate()}>
            Submit for review
          </Act>
          <Act onClick={() => setOpen("retire")}>Retire…</Act>
          <Act color="failure" onClick={() => setOpen("delete")}>
            Delete…
          </Act>
          <Act onClick={() => setChosen({})}>Clear selection</Act>
        </Flex>
      )}
      {error && !get("filter") ? <Failure error={error} /> : null}
      {total === undefined ? (
        !error && <Skeletons />
      ) : total === 0 ? (
        <Empty>{asked.size > 0 ? "No entry matches. Remove a filter." : "There is no content yet. It comes from an origin, from a file (ubiquon entry import), or is written here: New entry."}</Empty>
      ) : (
        <List label="Entries" columns={columns} rows={rows} rowKey={(e) => e.id} mark="entry" sort={sort} setSort={setSort} shown={shown} choice={choice} />
      )}
      {(open === "publish" || open === "unpublish") && model.data && <PublishWindow entries={bulk} action={open} model={model.data} close={() => setOpen(null)} done={done} />}
      {(open === "retire" || open === "delete") && <TakeAwayWindow ids={bulk.map((e) => e.id)} titles={`${bulk.length} entries`} action={open} close={() => setOpen(null)} done={() => done("Done.")} />}
      <SameByCommand command={command} />
    </Page>
  );
}
