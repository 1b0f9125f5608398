import { Box, Button, Flex, Heading, Text } from "@chakra-ui/react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { call, type Build, type Site } from "../api";
import { Cell, CopyButton, Empty, Loaded, Mono, Page, Row, Rows, SameByCommand, State, When } from "../parts";
import { between } from "../trace";

function why(b: Build): string {
  const causes = b.causes ?? [];
  const first = causes[0];
  if (!first) return "–";
  const text = first.by ? "asked for by " + first.by : `${first.what ?? "changed"} ${first.type ?? ""}`;
  return causes.length > 1 ? `${text}, and ${causes.length - 1} more` : text;
}

function OneSite({ site }: { site: Site }) {
  const queries = useQueryClient();
  const rebuild = useMutation({
    mutationFn: () => call<Build>(`/sites/${encodeURIComponent(site.name)}/rebuild`, { method: "POST", body: { now: true } }),
    onSettled: () => queries.invalidateQueries(),
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
        <Rows label={"Builds of " + site.name} head={["Build", "State", "Why", "Content at", "Asked for", "Waited", "Took", "Error"]} numbers={["Waited", "Took"]}>
          {site.builds.map((b) => (
            <Row key={b.id} data-build={String(b.number)}>
              <Cell>{b.number}</Cell>
              <Cell>
                <State of={b.state} />
              </Cell>
              <Cell>{why(b)}</Cell>
              <Cell>
                <Mono>{b.sequence}</Mono>
              </Cell>
              <Cell>
                <When at={b.firstRequest} />
              </Cell>
              <Cell right>{between(b.firstRequest, b.called)}</Cell>
              <Cell right>{between(b.called, b.finished)}</Cell>
              <Cell>{b.error}</Cell>
            </Row>
          ))}
        </Rows>
      ) : (
        <Empty>It has not been built yet. Publish something that a rule rebuilds it for, or press Rebuild now.</Empty>
      )}
    </Box>
  );
}

export function SitesPage() {
  const sites = useQuery({ queryKey: ["sites"], queryFn: ({ signal }) => call<{ items: Site[] }>("/sites", { signal }), refetchInterval: 5_000 });
  return (
    <Page title="Sites" says="Front ends that are kept fresh">
      <Loaded query={sites}>
        {({ items }) => (items.length === 0 ? <Empty>No site is configured. Describe one in sites.yaml.</Empty> : items.map((s) => <OneSite key={s.name} site={s} />))}
      </Loaded>
      <SameByCommand command="ubiquon build list" />
    </Page>
  );
}
