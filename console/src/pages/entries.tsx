import { Button, Flex, Input, Text } from "@chakra-ui/react";
import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { Link, useNavigate, useSearchParams } from "react-router";
import { call, edit, states, type Entry } from "../api";
import { PublishWindow, TakeAwayWindow } from "../entry-windows";
import { Act, Cell, Empty, Failure, Loaded, LocaleMarks, Main, Page, Pick, Row, Rows, SameByCommand, State, Tick, When } from "../parts";
import { useModel } from "../use-model";

const size = 50;
const filters = ["type", "state", "search", "missing"];

export function EntriesPage() {
  const [params, setParams] = useSearchParams();
  const get = (name: string) => params.get(name) ?? "";
  const offset = Number(get("offset")) || 0;
  // What is being typed stays here; the address follows when the typing rests.
  const [typed, setTyped] = useState(get("search"));
  const [address, setAddress] = useState(typed);
  if (get("search") !== address) {
    // The address has changed by itself: Back, or a link.
    setAddress(get("search"));
    setTyped(get("search"));
  }
  useEffect(() => {
    if (typed === get("search")) return;
    const rested = setTimeout(() => {
      setAddress(typed);
      set("search", typed);
    }, 200);
    return () => clearTimeout(rested);
  });
  const asked = new URLSearchParams();
  for (const name of filters) if (get(name)) asked.set(name, get(name));
  asked.set("limit", String(size));
  if (offset) asked.set("offset", String(offset));
  const list = useQuery({
    queryKey: ["entries", asked.toString()],
    queryFn: ({ signal }) => call<{ items: Entry[]; total: number }>("/entries?" + asked, { signal }),
    placeholderData: keepPreviousData,
  });
  const model = useModel({ staleTime: 60_000 });

  function set(name: string, value: string) {
    setParams(
      (before) => {
        const next = new URLSearchParams(before);
        if (value) next.set(name, value);
        else next.delete(name);
        if (name !== "offset") next.delete("offset");
        return next;
      },
      { replace: name === "search" },
    );
  }

  const navigate = useNavigate();
  const queries = useQueryClient();
  const [chosen, setChosen] = useState<Record<string, Entry>>({});
  const [open, setOpen] = useState<"publish" | "unpublish" | "retire" | "delete" | null>(null);
  const [said, setSaid] = useState("");
  const bulk = Object.values(chosen);
  const submit = useMutation({ mutationFn: () => edit(...bulk.map((e) => ({ id: e.id, do: "submit" as const }))), onSuccess: () => setChosen({}), onSettled: () => queries.invalidateQueries() });
  const done = (text: string) => {
    setChosen({});
    setSaid(text);
  };
  const choose = (e: Entry, yes: boolean) =>
    setChosen((before) => {
      const next = { ...before };
      if (yes) next[e.id] = e;
      else delete next[e.id];
      return next;
    });

  const command = ["ubiquon entry list", ...filters.filter(get).map((n) => `--${n} '${get(n)}'`)].join(" ");
  return (
    <Page title="Entries" says={list.data && `${list.data.total} in all`} actions={<Main onClick={() => navigate("/entries/new" + (get("type") ? "?type=" + get("type") : ""))}>New entry</Main>}>
      <Flex gap="3" mb="4" align="center">
        <Input size="sm" maxW="260px" bg="sheet" borderColor="line" placeholder="Title, slug or id" aria-label="Search" value={typed} onChange={(e) => setTyped(e.target.value)} />
        <Pick label="Type" value={get("type")} onChange={(v) => set("type", v)} w="180px">
          <option value="">every type</option>
          {model.data?.types.map((t) => (
            <option key={t.name} value={t.name}>
              {t.label}
            </option>
          ))}
        </Pick>
        <Pick label="State" value={get("state")} onChange={(v) => set("state", v)} w="150px">
          <option value="">every state</option>
          {states.map((s) => (
            <option key={s}>{s}</option>
          ))}
        </Pick>
        <Pick label="Not translated into" value={get("missing")} onChange={(v) => set("missing", v)} w="210px">
          <option value="">translated or not</option>
          {model.data?.locales
            .filter((l) => !l.retired)
            .map((l) => (
              <option key={l.tag} value={l.tag}>
                not wholly in {l.name || l.tag}
              </option>
            ))}
        </Pick>
      </Flex>
      {said && (
        <Text mb="3" color="good" role="status">
          ● {said}
        </Text>
      )}
      <Failure error={submit.error} />
      {bulk.length > 0 && (
        <Flex gap="2" mb="3" align="center" data-bulk={bulk.length}>
          <Text fontWeight="600">{bulk.length} chosen</Text>
          <Act onClick={() => setOpen("publish")}>Publish…</Act>
          <Act onClick={() => setOpen("unpublish")}>Unpublish…</Act>
          <Act loading={submit.isPending} onClick={() => submit.mutate()}>
            Submit for review
          </Act>
          <Act onClick={() => setOpen("retire")}>Retire…</Act>
          <Act color="failure" onClick={() => setOpen("delete")}>
            Delete…
          </Act>
          <Act onClick={() => setChosen({})}>Choose none</Act>
        </Flex>
      )}
      <Loaded query={list}>
        {({ items, total }) =>
          items.length === 0 ? (
            <Empty>{asked.size > 1 ? "Nothing fits. Take a filter away." : "There is no content yet. It comes from an origin, from a file (ubiquon entry import), or is written here: New entry."}</Empty>
          ) : (
            <>
              <Rows label="Entries" head={["", "Title", "Type", "State", "Translations", "Origin", "Saved"]}>
                {items.map((e) => (
                  <Row key={e.id} data-entry={e.id}>
                    <Cell>
                      {e.origin === "local" && <Tick name={"Choose " + (e.title || e.id)} checked={e.id in chosen} onChange={(yes) => choose(e, yes)} />}
                    </Cell>
                    <Cell>
                      <Link to={"/entries/" + e.id}>{e.title || e.id}</Link>
                    </Cell>
                    <Cell>{e.type}</Cell>
                    <Cell>
                      <State of={e.state} /> {e.next && <When at={e.next} />}
                    </Cell>
                    <Cell>
                      <LocaleMarks of={e.locales} live={e.live} />
                    </Cell>
                    <Cell>{e.origin}</Cell>
                    <Cell>
                      <When at={e.updated} />
                    </Cell>
                  </Row>
                ))}
              </Rows>
              {total > size && (
                <Flex mt="3" gap="3" align="center">
                  <Button size="xs" variant="outline" disabled={offset === 0} onClick={() => set("offset", offset > size ? String(offset - size) : "")}>
                    Before
                  </Button>
                  <Button size="xs" variant="outline" disabled={offset + size >= total} onClick={() => set("offset", String(offset + size))}>
                    Next
                  </Button>
                  <Text color="faint">
                    {offset + 1} to {Math.min(offset + size, total)} of {total}
                  </Text>
                </Flex>
              )}
            </>
          )
        }
      </Loaded>
      {(open === "publish" || open === "unpublish") && model.data && <PublishWindow entries={bulk} action={open} model={model.data} close={() => setOpen(null)} done={done} />}
      {(open === "retire" || open === "delete") && <TakeAwayWindow ids={bulk.map((e) => e.id)} titles={`${bulk.length} entries`} action={open} close={() => setOpen(null)} done={() => done("Done.")} />}
      <SameByCommand command={command} />
    </Page>
  );
}
