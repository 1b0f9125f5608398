import { Box, Button, Flex, Heading, Text } from "@chakra-ui/react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { type Build, call, key, refreshAll, type Site } from "../../api";
import { BuildRows } from "./build-rows";
import { CopyButton, Empty, Loaded, Page, SameByCommand } from "../../ui";

function OneSite({ site }: { site: Site }) {
  const queries = useQueryClient();
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
          {site.build && `waits ${site.build.quiet} for more changes, ${site.build.atMost} at most`}
        </Text>
        {site.build && (
          <Button size="xs" bg="accent" color="sheet" loading={rebuild.isPending} onClick={() => rebuild.mutate()}>
            Rebuild now
          </Button>
        )}
      </Flex>
      {rebuild.error && (
        <Text role="alert" color="failure" mb="2">
          ✕ {rebuild.error.message}
        </Text>
      )}
      {site.builds?.length ? (
        <BuildRows label={"Builds of " + site.name} builds={site.builds} ofOneSite />
      ) : (
        <Empty>It has not been built yet. Publish something that a rule rebuilds it for, or press Rebuild now.</Empty>
      )}
    </Box>
  );
}

export function SitesPage() {
  const sites = useQuery({ queryKey: key("sites"), queryFn: ({ signal }) => call<{ items: Site[] }>("/sites", { signal }) });
  return (
    <Page title="Sites" says="Front ends that are kept fresh">
      <Loaded query={sites}>
        {({ items }) => (items.length === 0 ? <Empty>No site is configured. Describe one in sites.yaml.</Empty> : items.map((s) => <OneSite key={s.name} site={s} />))}
      </Loaded>
      <SameByCommand command="ubiquon build list" />
    </Page>
  );
}
