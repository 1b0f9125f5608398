import { Button, Flex, Input, NativeSelect, Text } from "@chakra-ui/react";
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { Link, useSearchParams } from "react-router";
import { call, type Entry, type Model } from "../api";
import { Cell, Empty, Loaded, Mono, Page, Row, Rows, SameByCommand, State, When } from "../parts";

const size = 50;

export function EntriesPage() {
  const [params, setParams] = useSearchParams();
  const get = (name: string) => params.get(name) ?? "";
  const offset = Number(get("offset")) || 0;
  // What is being typed stays here; the address follows when the typing rests.
  const [typed, setTyped] = useState(get("search"));
  useEffect(() => {
    if (typed === get("search")) return;
    const rested = setTimeout(() => set("search", typed), 200);
    return () => clearTimeout(rested);
  });
  const asked = new URLSearchParams();
  for (const name of ["type", "state", "search"]) if (get(name)) asked.set(name, get(name));
  asked.set("limit", String(size));
  if (offset) asked.set("offset", String(offset));
  const list = useQuery({
    queryKey: ["entries", asked.toString()],
    queryFn: ({ signal }) => call<{ items: Entry[]; total: number }>("/entries?" + asked, { signal }),
    placeholderData: keepPreviousData,
  });
  const model = useQuery({ queryKey: ["model"], queryFn: ({ signal }) => call<Model>("/model", { signal }), staleTime: 60_000 });

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

  const command = ["ubiquon entry list", ...["type", "state", "search"].filter(get).map((n) => `--${n} '${get(n)}'`)].join(" ");
  return (
    <Page title="Entries" says={list.data && `${list.data.total} in all`}>
      <Flex gap="3" mb="4" align="center">
        <Input size="sm" maxW="280px" bg="sheet" borderColor="line" placeholder="Title, slug or id" aria-label="Search" value={typed} onChange={(e) => setTyped(e.target.value)} />
        <NativeSelect.Root size="sm" w="190px">
          <NativeSelect.Field bg="sheet" borderColor="line" aria-label="Type" value={get("type")} onChange={(e) => set("type", e.target.value)}>
            <option value="">every type</option>
            {model.data?.types.map((t) => (
              <option key={t.name} value={t.name}>
                {t.label}
              </option>
            ))}
          </NativeSelect.Field>
          <NativeSelect.Indicator />
        </NativeSelect.Root>
        <NativeSelect.Root size="sm" w="150px">
          <NativeSelect.Field bg="sheet" borderColor="line" aria-label="State" value={get("state")} onChange={(e) => set("state", e.target.value)}>
            <option value="">every state</option>
            {["draft", "published", "revised"].map((s) => (
              <option key={s}>{s}</option>
            ))}
          </NativeSelect.Field>
          <NativeSelect.Indicator />
        </NativeSelect.Root>
      </Flex>
      <Loaded query={list}>
        {({ items, total }) =>
          items.length === 0 ? (
            <Empty>
              {asked.size > 1 ? "Nothing fits. Take a filter away." : "There is no content yet. It comes from an origin, or is written with POST /control/v1/edits."}
            </Empty>
          ) : (
            <>
              <Rows label="Entries" head={["Title", "Type", "State", "Locales", "Origin", "Saved"]}>
                {items.map((e) => (
                  <Row key={e.id} data-entry={e.id}>
                    <Cell>
                      <Link to={"/entries/" + e.id}>{e.title || e.id}</Link>
                    </Cell>
                    <Cell>{e.type}</Cell>
                    <Cell>
                      <State of={e.state} />
                    </Cell>
                    <Cell>
                      <Mono>{(e.locales ?? []).join(" ")}</Mono>
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
      <SameByCommand command={command} />
    </Page>
  );
}
