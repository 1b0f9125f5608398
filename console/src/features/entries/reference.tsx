import { Box, Button, Flex, Input, Text } from "@chakra-ui/react";
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { CopyPlus, Plus, X } from "lucide-react";
import { useContext, useState } from "react";
import { Link } from "react-router";
import { call, key, type Entry, type EntryDetail, type Field } from "../../api";
import { useRested } from "../../lib/rested";
import { Act, inputStyle } from "../../ui";
import { Form, type Control } from "./form-context";

/** The entry that an id stands for, by title. */
export function Linked({ id }: { id: string }) {
  const entry = useQuery({ queryKey: key("entry", id), queryFn: ({ signal }) => call<EntryDetail>("/entries/" + encodeURIComponent(id), { signal }), staleTime: 30_000, retry: false });
  return (
    <Link to={"/entries/" + id} target="_blank">
      {entry.error ? id + " (not there)" : (entry.data?.title ?? "…")}
    </Link>
  );
}

/** Finds an entry to refer to, or makes a new one. */
export function ReferencePicker({ field, set }: { field: Field; set: (id: string) => void }) {
  const [open, setOpen] = useState(false);
  const [search, setSearch] = useState("");
  const form = useContext(Form);
  const rested = useRested(search, 150);
  const types = (field.types ?? []).join(",");
  const found = useQuery({
    queryKey: key("pick", types, rested),
    enabled: open,
    placeholderData: keepPreviousData,
    queryFn: ({ signal }) => call<{ items: Entry[] }>("/entries?" + new URLSearchParams({ limit: "12", types, ...(rested ? { search: rested } : {}) }), { signal }),
  });
  if (!open)
    return (
      <Flex gap="1">
        <Act onClick={() => setOpen(true)}>
          <Plus size={13} /> Choose
        </Act>
        <Act onClick={() => form.create(field.types ?? [], set)}>
          <CopyPlus size={13} /> New {field.types?.length === 1 ? field.types[0] : "entry"}
        </Act>
      </Flex>
    );
  return (
    <Box borderWidth="1px" borderColor="accent" p="2" bg="sheet">
      <Input {...inputStyle} autoFocus placeholder={"Search " + (field.types ?? []).join(", ")} aria-label="Search entries" value={search} onChange={(e) => setSearch(e.target.value)} onKeyDown={(e) => e.key === "Escape" && setOpen(false)} />
      <Flex direction="column" mt="1" maxH="180px" overflowY="auto">
        {found.data?.items.map((e) => (
          <Button
            key={e.id}
            size="xs"
            variant="ghost"
            justifyContent="flex-start"
            color="ink"
            onClick={() => {
              set(e.id);
              setOpen(false);
              setSearch("");
            }}
          >
            {e.title || e.id}
            <Box as="span" color="faint">
              {e.type}, {e.state}
            </Box>
          </Button>
        ))}
        {found.data?.items.length === 0 && <Text color="faint">No match.</Text>}
      </Flex>
    </Box>
  );
}

export function Reference({ field, value, set, inList }: Control) {
  const { readOnly } = useContext(Form);
  if (value)
    return (
      <Flex align="center" gap="2">
        <Linked id={String(value)} />
        {!readOnly && !inList && (
          <Button size="2xs" variant="plain" color="faint" aria-label="Remove" onClick={() => set(undefined)}>
            <X size={13} />
          </Button>
        )}
      </Flex>
    );
  return readOnly ? <Text color="faint">no value</Text> : <ReferencePicker field={field} set={set} />;
}
