import { Box, Flex, Input, Text } from "@chakra-ui/react";
import { useMutation } from "@tanstack/react-query";
import { lazy, Suspense, useState } from "react";
import { call, type OriginTried } from "../../api";
import { fromYaml, toYaml } from "../../lib/yaml";
import { Act, Failure, inputStyle, Section } from "../../ui";

const SourceEditor = lazy(() => import("../../code/source"));

const asText = (v: unknown) => (typeof v === "string" ? v : JSON.stringify(v));

function Outcome({ of }: { of: OriginTried }) {
  return (
    <Box data-tried role="status">
      <Text fontWeight="600" mb="1">
        {of.type} {of.key} <Text as="span" color="faint">{of.fields && (of.published ? "published" : "only saved")}</Text>
      </Text>
      {of.problems.map((p) => (
        <Text key={p} color="failure">
          ✕ {p}
        </Text>
      ))}
      {of.problems.length === 0 && <Text color="good">✓ it would be taken over</Text>}
      {(of.lost ?? []).map((l) => (
        <Text key={l} color="warning">
          ! not delivered: {l}
        </Text>
      ))}
      <Box as="dl" display="grid" gridTemplateColumns="auto 1fr" columnGap="4" rowGap="1" mt="2" fontSize="13px">
        {Object.entries(of.fields ?? {}).flatMap(([name, value]) => [
          <Box as="dt" key={name} color="faint">
            {name}
          </Box>,
          <Box as="dd" key={name + "="} wordBreak="break-word">
            {asText(value)}
          </Box>,
        ])}
      </Box>
    </Box>
  );
}

/** The configuration on trial beside an item as the origin has it, and the entry that it becomes. Nothing is kept. */
export function TryItem({ name, spec, setSpec, saved }: { name: string; spec: string | undefined; setSpec: (text: string | undefined) => void; saved: unknown }) {
  const [wanted, setWanted] = useState("");
  const [item, setItem] = useState("");
  const tried = useMutation({
    mutationFn: (fetched: boolean) =>
      call<OriginTried>(`/origins/${encodeURIComponent(name)}/try`, {
        method: "POST",
        body: { key: fetched ? wanted.trim() || undefined : undefined, item: !fetched && item ? fromYaml(item) : undefined, spec: spec === undefined ? undefined : fromYaml(spec) },
      }),
    onSuccess: (t) => setItem(JSON.stringify(t.item, null, 2)),
  });
  return (
    <Section
      title="Try an item"
      actions={
        <>
          <Input {...inputStyle} size="xs" w="180px" aria-label="Key of the item" placeholder="key, or the first one" value={wanted} onChange={(e) => setWanted(e.target.value)} />
          <Act loading={tried.isPending} onClick={() => tried.mutate(true)}>
            Fetch it
          </Act>
          <Act disabled={!item} loading={tried.isPending} onClick={() => tried.mutate(false)}>
            Try what stands here
          </Act>
        </>
      }
    >
      <Failure error={tried.error} />
      <Flex gap="5" direction={{ base: "column", lg: "row" }} align="stretch">
        <Box flex="1" minW="0">
          <Text color="faint" fontSize="13px" mb="1">
            The item, as the origin has it: fetched, or pasted
          </Text>
          <Suspense fallback={<Box h="160px" />}>
            <SourceEditor label="The item" kind="json" value={item} onChange={setItem} minHeight="160px" maxHeight="300px" />
          </Suspense>
          <Text color="faint" fontSize="13px" mt="3" mb="1">
            The configuration that it is tried with {spec !== undefined && "– not saved"}
          </Text>
          <Suspense fallback={<Box h="160px" />}>
            <SourceEditor label="The configuration on trial" kind="yaml" value={spec ?? toYaml(saved)} onChange={setSpec} minHeight="160px" maxHeight="340px" />
          </Suspense>
          {spec !== undefined && (
            <Act mt="2" onClick={() => setSpec(undefined)}>
              Back to what is saved
            </Act>
          )}
        </Box>
        <Box flex="1" minW="0" borderTopWidth="2px" borderColor="accent" pt="2">
          {tried.data ? <Outcome of={tried.data} /> : <Text color="faint">The entry that it becomes is shown here, with everything that is wrong with it.</Text>}
        </Box>
      </Flex>
    </Section>
  );
}
