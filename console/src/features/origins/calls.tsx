import { Box, Flex, Text } from "@chakra-ui/react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { call, key, refreshAll, type CapturedCall, type CapturedCalls, type HookTried } from "../../api";
import { pretty } from "../../lib/pretty";
import { fromYaml } from "../../lib/yaml";
import { Act, Empty, Failure, Loaded, Mono, Section, When } from "../../ui";

function Announced({ of }: { of: HookTried }) {
  return (
    <Box role="status" data-tried-hook>
      <Text color={of.refused ? "failure" : "good"}>{of.refused ? "✕ " + of.refused : "✓ proven: " + of.proof}</Text>
      {of.unreadable && <Text color="failure">✕ it cannot be read: {of.unreadable}</Text>}
      {of.announced.map((a, i) => (
        <Text key={i} color={a.unknown ? "warning" : "ink"}>
          {a.unknown ? "! not understood: " + a.unknown : a.type ? `● ${a.kind}: ${a.originKind} ${a.key} becomes ${a.type}` : `● ${a.kind}: what has changed is asked for`}
        </Text>
      ))}
    </Box>
  );
}

function OneCall({ name, of, spec, configured }: { name: string; of: CapturedCall; spec: string | undefined; configured: boolean }) {
  const tried = useMutation({
    mutationFn: () => call<HookTried>(`/origins/${encodeURIComponent(name)}/hook/try`, { method: "POST", body: { header: {}, body: "", captured: of.id, spec: spec === undefined ? undefined : fromYaml(spec) } }),
  });
  return (
    <Box borderTopWidth="1px" borderColor="line" py="3" data-call={of.id}>
      <Flex gap="4" align="center" mb="1">
        <Text flex="1">
          {of.method} from <Mono>{of.address}</Mono>, <When at={of.at} />
        </Text>
        <Act disabled={!configured && spec === undefined} loading={tried.isPending} onClick={() => tried.mutate()}>
          Try it
        </Act>
      </Flex>
      <Failure error={tried.error} />
      {tried.data && <Announced of={tried.data} />}
      <Box as="pre" fontFamily="mono" fontSize="12.5px" bg="sheet" borderWidth="1px" borderColor="line" p="3" mt="2" overflowX="auto" tabIndex={0}>
        {Object.entries(of.header)
          .map(([header, value]) => `${header}: ${value}\n`)
          .sort()
          .join("") +
          "\n" +
          pretty(of.body)}
      </Box>
    </Box>
  );
}

/** The calls of a hook, kept without acting on them, so that their form can be seen and tried. */
export function Calls({ name, spec, configured }: { name: string; spec: string | undefined; configured: boolean }) {
  const at = `/origins/${encodeURIComponent(name)}`;
  const queries = useQueryClient();
  const calls = useQuery({ queryKey: key("captured", name), queryFn: ({ signal }) => call<CapturedCalls>(at + "/captured", { signal }) });
  const capture = useMutation({ mutationFn: (minutes: number) => call<CapturedCalls>(at + "/capture", { method: "POST", body: { minutes } }), onSuccess: () => refreshAll(queries) });
  const until = calls.data?.until;
  return (
    <Section
      title="What it sends"
      actions={
        until ? (
          <Act loading={capture.isPending} onClick={() => capture.mutate(0)}>
            Act on calls again
          </Act>
        ) : (
          <Act loading={capture.isPending} onClick={() => capture.mutate(10)}>
            Keep the next calls for ten minutes
          </Act>
        )
      }
    >
      <Failure error={capture.error} />
      <Loaded query={calls}>
        {({ items }) => (
          <>
            {until && (
              <Text color="warning" mb="2">
                ! Calls to {location.origin}/hooks/{name} are kept until <When at={until} />, and not acted on.
              </Text>
            )}
            {items.length === 0 ? <Empty>{until ? "None has come yet." : "Have the next calls kept to see what is sent, and with which headers. What may prove its sender is left out."}</Empty> : items.map((c) => <OneCall key={c.id} name={name} of={c} spec={spec} configured={configured} />)}
          </>
        )}
      </Loaded>
    </Section>
  );
}
