import { Box, Button, Flex, Heading, Text } from "@chakra-ui/react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { type Build, call, type CallAnswer, key, refreshAll, type Site } from "../../api";
import { useWho } from "../../lib/who";
import { Answers } from "../records/answers";
import { RecordWindow } from "../records/record";
import { BuildRows } from "./build-rows";
import { ConnectWindow } from "./connect";
import { LivenessOf } from "./liveness";
import { Act, CopyButton, Empty, Failure, Loaded, Main, Page, SameByCommand, When } from "../../ui";

const blank = { address: "https://skerry.example", build: { call: "https://builder.example/build", secret: "secret:NAME", quiet: "2s", atMost: "30s" } };

function OneSite({ site, edit }: { site: Site; edit: () => void }) {
  const queries = useQueryClient();
  const who = useWho();
  const test = useMutation({ mutationFn: () => call<CallAnswer>(`/sites/${encodeURIComponent(site.name)}/test`, { method: "POST" }) });
  const cancel = useMutation({ mutationFn: (id: string) => call(`/builds/${id}/cancel`, { method: "POST" }), onSettled: () => refreshAll(queries) });
  const waiting = site.builds.find((b) => b.state === "waiting");
  const rebuild = useMutation({
    mutationFn: () => call<Build>(`/sites/${encodeURIComponent(site.name)}/rebuild`, { method: "POST", body: { now: true } }),
    onSettled: () => refreshAll(queries),
  });
  return (
    <Box as="section" mb="8" data-site={site.name}>
      <Flex align="center" gap="4" mb="3">
        <Heading as="h2" fontSize="16px">
          {site.name}
        </Heading>
        <a href={site.address} target="_blank" rel="noreferrer">
          {site.address}
        </a>
        <CopyButton text={site.address} label="the address" />
        <Text color="faint" flex="1">
          {site.off ? "off" : site.build ? `built; waits ${site.build.quiet ?? "2s"} for more changes, ${site.build.atMost ?? "30s"} at most` : site.refresh ? "refreshed page by page" : "kept fresh by nothing"}
        </Text>
        {waiting && (
          <Act loading={cancel.isPending} onClick={() => cancel.mutate(waiting.id)}>
            Cancel build {waiting.number}
          </Act>
        )}
        {who.may.administer && (
          <>
            <Act loading={test.isPending} onClick={() => test.mutate()}>
              Call it now
            </Act>
            <Act onClick={edit}>Edit…</Act>
          </>
        )}
        {site.build && (
          <Button size="xs" bg="accent" color="sheet" loading={rebuild.isPending} onClick={() => rebuild.mutate()}>
            Rebuild now
          </Button>
        )}
      </Flex>
      <Failure error={test.error ?? cancel.error} />
      {test.data && <Answers of={[test.data]} />}
      {site.failing && (
        <Box role="alert" borderLeftWidth="3px" borderColor="failure" pl="4" py="2" mb="3">
          <Text color="failure" fontWeight="600">
            ✕ {site.failing.failures} {site.failing.failures === 1 ? "build has" : "builds in a row have"} failed since <When at={site.failing.since} />
          </Text>
          <Text>{site.failing.error}</Text>
          <Text color="faint">{site.failing.mend}</Text>
        </Box>
      )}
      {site.reads.length > 0 && (
        <Text color="faint" mb="2" fontSize="13px">
          Reads {site.reads.join(", ")}; <Link to={`/sites/${encodeURIComponent(site.name)}/pages`}>its pages</Link>
        </Text>
      )}
      {site.liveness && <LivenessOf of={site.liveness} site={site.name} />}
      {rebuild.error && (
        <Text role="alert" color="failure" mb="2">
          ✕ {rebuild.error.message}
        </Text>
      )}
      {site.builds?.length ? (
        <BuildRows label={"Builds of " + site.name} builds={site.builds} ofOneSite />
      ) : (
        <Empty>{site.build ? "It has not been built yet. Publish something that a rule rebuilds it for, or press Rebuild now." : "It renders its pages itself, and is told which of them are stale."}</Empty>
      )}
    </Box>
  );
}

export function SitesPage() {
  const sites = useQuery({ queryKey: key("sites"), queryFn: ({ signal }) => call<{ items: Site[] }>("/sites", { signal }) });
  const who = useWho();
  const [editing, setEditing] = useState<string | null>();
  const [connecting, setConnecting] = useState(false);
  return (
    <Page
      title="Sites"
      says="Front ends that are kept fresh"
      actions={
        who.may.administer && (
          <Flex gap="2">
            <Act h="32px" onClick={() => setEditing(null)}>
              Add as YAML…
            </Act>
            <Main onClick={() => setConnecting(true)}>Connect a site</Main>
          </Flex>
        )
      }
    >
      <Loaded query={sites}>
        {({ items }) => (items.length === 0 ? <Empty>No site is connected yet. Connect one, and it is rebuilt or refreshed whenever something is published.</Empty> : items.map((s) => <OneSite key={s.name} site={s} edit={() => setEditing(s.name)} />))}
      </Loaded>
      {editing !== undefined && <RecordWindow path="/sites" what="site" name={editing ?? undefined} initial={blank} close={() => setEditing(undefined)} help="Where visitors find it, and how it is built or refreshed." />}
      {connecting && <ConnectWindow close={() => setConnecting(false)} />}
      <SameByCommand command="ubiquon site list" />
    </Page>
  );
}
