import { Box, Dialog, Portal, Text } from "@chakra-ui/react";
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { Command } from "cmdk";
import { useState, type ReactNode } from "react";
import { useNavigate } from "react-router";
import { call, key, type Entry } from "../api";
import type { Action } from "../lib/actions";
import { recent } from "../lib/recent";
import { useRested } from "../lib/rested";
import { State } from "../ui";
import { rail } from "./pages";
import { useWho } from "../lib/who";

const items = {
  "& [cmdk-item]": { display: "flex", gap: "12px", alignItems: "center", padding: "6px 12px", cursor: "pointer", borderLeft: "3px solid transparent" },
  "& [cmdk-item][aria-selected=true]": { background: "color-mix(in srgb, var(--chakra-colors-accent) 12%, transparent)", borderColor: "var(--chakra-colors-accent)" },
};

function Item({ id, run, children }: { id: string; run: () => void; children: ReactNode }) {
  return (
    <Command.Item value={id} onSelect={run}>
      {children}
    </Command.Item>
  );
}

function Group({ name, children }: { name: string; children: ReactNode }) {
  return (
    <Box py="1">
      <Text px="3" py="1" fontSize="12px" color="faint">
        {name}
      </Text>
      {children}
    </Box>
  );
}

/** Finds pages, entries by title and what can be done here; the keyboard alone is enough. */
export default function Palette({ actions, close }: { actions: Action[]; close: () => void }) {
  const who = useWho();
  const navigate = useNavigate();
  const [text, setText] = useState("");
  const search = useRested(text.trim(), 150);
  const found = useQuery({
    queryKey: key("pick", "palette", search),
    enabled: search.length > 1,
    placeholderData: keepPreviousData,
    queryFn: ({ signal }) => call<{ items: Entry[] }>("/entries?" + new URLSearchParams({ search, limit: "8" }), { signal }),
  });
  const fits = (name: string) => name.toLowerCase().includes(text.trim().toLowerCase());
  const go = (to: string) => {
    close();
    void navigate(to);
  };
  const doable = [...actions, ...(who.may.write ? [{ name: "New entry", run: () => go("/entries/new") }] : [])].filter((a) => fits(a.name));
  const pages = rail.filter((p) => (!p.admins || who.may.administer) && fits(p.name));
  const last = text.trim() === "" ? recent(who.environment) : [];
  const entries = text.trim().length > 1 ? (found.data?.items ?? []) : [];
  const ids = [...doable.map((a) => "do " + a.name), ...last.map((e) => "last " + e.id), ...entries.map((e) => "entry " + e.id), ...pages.map((p) => "page " + p.to)];
  const [pointed, setPointed] = useState("");
  return (
    <Dialog.Root open onOpenChange={(e) => !e.open && close()} placement="top">
      <Portal>
        <Dialog.Backdrop bg="blackAlpha.500" />
        <Dialog.Positioner>
          <Dialog.Content css={items} bg="sheet" color="ink" borderWidth="1px" borderColor="control" borderRadius="md" maxW="min(600px, calc(100vw - 32px))" mt="12vh" aria-label="Search and commands" data-palette>
            <Command shouldFilter={false} label="Search and commands" loop value={ids.includes(pointed) ? pointed : (ids[0] ?? "")} onValueChange={setPointed}>
              <Box px="3" py="2" borderBottomWidth="1px" borderColor="line">
                <Command.Input
                  autoFocus
                  value={text}
                  onValueChange={setText}
                  placeholder="A page, an entry's title, or what to do"
                  style={{ width: "100%", background: "transparent", color: "inherit", fontSize: "15px", padding: "4px 0", outline: "none" }}
                />
              </Box>
              <Command.List style={{ maxHeight: "56vh", overflowY: "auto" }}>
                {doable.length + pages.length + entries.length + last.length === 0 && !found.isFetching && (
                  <Text px="3" py="4" color="faint">
                    Nothing is called so.
                  </Text>
                )}
                {doable.length > 0 && (
                  <Group name="Here">
                    {doable.map((a) => (
                      <Item key={a.name} id={"do " + a.name} run={() => (close(), a.run())}>
                        <Text flex="1">{a.name}</Text>
                        {a.keys && (
                          <Text fontFamily="mono" fontSize="12px" color="faint">
                            {a.keys}
                          </Text>
                        )}
                      </Item>
                    ))}
                  </Group>
                )}
                {last.length > 0 && (
                  <Group name="Opened last">
                    {last.map((e) => (
                      <Item key={e.id} id={"last " + e.id} run={() => go("/entries/" + e.id)}>
                        <Text truncate>{e.title}</Text>
                      </Item>
                    ))}
                  </Group>
                )}
                {entries.length > 0 && (
                  <Group name="Entries">
                    {entries.map((e) => (
                      <Item key={e.id} id={"entry " + e.id} run={() => go("/entries/" + e.id)}>
                        <Text truncate flex="1">
                          {e.title || e.id}
                        </Text>
                        <Text color="faint" fontSize="12px">
                          {e.type}
                        </Text>
                        <State of={e.state} />
                      </Item>
                    ))}
                  </Group>
                )}
                {pages.length > 0 && (
                  <Group name="Pages">
                    {pages.map((p) => (
                      <Item key={p.to} id={"page " + p.to} run={() => go(p.to)}>
                        {p.icon}
                        <Text>{p.name}</Text>
                      </Item>
                    ))}
                  </Group>
                )}
              </Command.List>
            </Command>
          </Dialog.Content>
        </Dialog.Positioner>
      </Portal>
    </Dialog.Root>
  );
}
