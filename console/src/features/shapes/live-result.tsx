import { Box, Flex, Text } from "@chakra-ui/react";
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { lazy, Suspense, useState } from "react";
import { call, key, type Entry, type Model, type Shape } from "../../api";
import type { Examined } from "../../lib/read";
import { useRested } from "../../lib/rested";
import { Empty, EntryLink, Failure, Pick, Section } from "../../ui";

const SourceEditor = lazy(() => import("../../code/source"));

/** An answer as the service gave it: the text of it, or what is wrong. */
function answer(e: Examined): { text: string; wrong?: string } {
  const body = JSON.parse(e.body) as { detail?: string; hint?: string };
  if (e.status >= 400) return { text: "", wrong: [body.detail, body.hint].filter(Boolean).join(" – ") };
  return { text: JSON.stringify(body, null, 2) };
}

/** What an entry looks like in a shape as it stands, applied or not. */
export function LiveResult({ model, shape }: { model: Model; shape: Shape }) {
  const [wanted, setWanted] = useState("");
  const types = shape.of.join(",");
  const entries = useQuery({ queryKey: key("entries", "of shape", types), queryFn: ({ signal }) => call<{ items: Entry[] }>("/entries?" + new URLSearchParams({ limit: "60", types }), { signal }) });
  const items = entries.data?.items ?? [];
  const entry = items.find((e) => e.id === wanted) ?? items[0];
  const shapes = useRested(JSON.stringify([...(model.shapes ?? []).filter((s) => s.name !== shape.name), shape]), 300);
  const result = useQuery({
    queryKey: key("shaped", shape.name, shapes, entry?.id),
    enabled: !!entry && shape.fields.length > 0,
    queryFn: ({ signal }) => call<Examined>("/reads", { method: "POST", body: { request: `/entries/${entry!.id}?shape=${shape.name}`, edition: "preview", shapes: JSON.parse(shapes) }, signal }),
    placeholderData: keepPreviousData,
  });
  const got = result.data && answer(result.data);
  return (
    <Section
      title="What an entry looks like in it"
      actions={
        items.length > 0 && (
          <Pick label="Entry" value={entry?.id ?? ""} onChange={setWanted} maxW="340px">
            {items.map((e) => (
              <option key={e.id} value={e.id}>
                {model.types.find((t) => t.name === e.type)?.label ?? e.type}: {e.title}
              </option>
            ))}
          </Pick>
        )
      }
    >
      <Failure error={entries.error ?? result.error} />
      {entries.data && items.length === 0 && <Empty>There is no entry of these types yet.</Empty>}
      {shape.fields.length === 0 && <Empty>The shape has no members yet.</Empty>}
      {got?.wrong && (
        <Text color="failure" role="alert" whiteSpace="pre-wrap">
          ✕ {got.wrong}
        </Text>
      )}
      {got && !got.wrong && entry && (
        <Box data-result={entry.id}>
          <Suspense fallback={<Box h="160px" />}>
            <SourceEditor label="The entry in the shape" kind="json" value={got.text} minHeight="160px" maxHeight="420px" />
          </Suspense>
          <Flex mt="1" color="faint" fontSize="13px" gap="2" wrap="wrap">
            <span>Its newest state. It depends on {dependsOn(result.data!)}</span>
            <EntryLink id={entry.id} title="Open the entry" />
          </Flex>
        </Box>
      )}
    </Section>
  );
}

/** The fields that a change would have to touch for the answer to be another. */
function dependsOn(e: Examined): string {
  const each = e.dependencies?.entries?.map((d) => `${(d.fields ?? []).join(", ") || "its being there"} of ${e.titles?.[d.id] ?? d.id}`);
  return each?.length ? each.join("; ") + "." : "nothing.";
}
