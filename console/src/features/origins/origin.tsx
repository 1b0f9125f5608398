import { Box, Flex, Text } from "@chakra-ui/react";
import { useMutation, useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useParams } from "react-router";
import { call, key, type CallAnswer, type Comparison, type OriginState, type Reconciled, type SavedSetting, type UntakenItem } from "../../api";
import { useDraft } from "../../lib/draft";
import { useWho } from "../../lib/who";
import { Act, Cell, Empty, Failure, Loaded, Main, Page, Row, Rows, SameByCommand, Section, When } from "../../ui";
import { Answers } from "../records/answers";
import { RecordWindow } from "../records/record";
import { blank, help } from "./blank";
import { Calls } from "./calls";
import { OriginHealth } from "./origins";
import { Swap } from "./swap";
import { TryItem } from "./try-item";
import { Differences, useWork } from "./work";

function Facts({ of }: { of: OriginState }) {
  const done = of.compared?.done;
  return (
    <Box mb="5">
      <Flex gap="7" wrap="wrap" color="faint" mb="1">
        <span>{of.missing ? "not configured" : "read from " + of.from}</span>
        {!of.missing && <span>{of.proof ? "announcements proven by " + of.proof : of.from === "feed" ? "told by its hub, if it has one" : "no announcements are taken"}</span>}
        <span>
          {of.entries} entries, {of.untaken} items not taken
        </span>
        <span>heard last {of.lastEvent ? <When at={of.lastEvent} /> : "never"}</span>
      </Flex>
      {of.proof === "none" && <Text color="warning">! Announcements are taken from everybody.</Text>}
      {of.compared && (
        <Text color={of.compared.error ? "failure" : "ink"}>
          Compared <When at={of.compared.at} />: {of.compared.error || (done && `${done.seen} items, ${done.changed} changed, ${done.deleted} deleted`)}
          {done?.held ? ` – ${done.held} that are gone there are kept: they are too many to go without your word.` : ""}
        </Text>
      )}
    </Box>
  );
}

function Untaken({ name }: { name: string }) {
  const untaken = useQuery({ queryKey: key("untaken", name), queryFn: ({ signal }) => call<{ items: UntakenItem[] }>(`/origins/${encodeURIComponent(name)}/untaken`, { signal }) });
  return (
    <Section title="Not taken">
      <Loaded query={untaken}>
        {({ items }) =>
          items.length === 0 ? (
            <Empty>Every item has become an entry.</Empty>
          ) : (
            <Rows label="Not taken" head={["Item", "Type", "Why", "Since"]}>
              {items.map((u) => (
                <Row key={u.type + u.key} data-untaken={u.key}>
                  <Cell>{u.key}</Cell>
                  <Cell>{u.type}</Cell>
                  <Cell>{u.reason}</Cell>
                  <Cell>
                    <When at={u.since} />
                  </Cell>
                </Row>
              ))}
            </Rows>
          )
        }
      </Loaded>
    </Section>
  );
}

function Work({ name }: { name: string }) {
  const at = `/origins/${encodeURIComponent(name)}`;
  const test = useMutation({ mutationFn: () => call<{ items: CallAnswer[] }>(at + "/test", { method: "POST" }) });
  const compare = useWork<Comparison>(at + "/compare");
  const reconcile = useWork<Reconciled>(at + "/reconcile");
  return (
    <Section
      title="Read and compare"
      actions={
        <>
          <Act loading={test.isPending} onClick={() => test.mutate()}>
            Read it now
          </Act>
          <Act loading={compare.isPending} loadingText={compare.seen || "Comparing"} onClick={() => compare.mutate({})}>
            Compare
          </Act>
          <Act loading={reconcile.isPending} loadingText={reconcile.seen || "Taking over"} onClick={() => reconcile.mutate({})}>
            Take over what differs
          </Act>
        </>
      }
    >
      <Failure error={test.error ?? compare.error ?? reconcile.error} />
      {test.data && <Answers of={test.data.items} />}
      {compare.data && <Differences of={compare.data} />}
      {reconcile.data && (
        <Text role="status">
          {reconcile.data.seen} items, {reconcile.data.changed} changed, {reconcile.data.deleted} deleted, {reconcile.data.badItems ?? 0} not taken.
        </Text>
      )}
      {!test.data && !compare.data && !reconcile.data && <Text color="faint">Comparing changes nothing; taking over makes what is here what the origin has.</Text>}
    </Section>
  );
}

/** One origin: how reading it goes, what was not taken over, and what its items and calls become. */
export function OriginPage() {
  const { name = "" } = useParams();
  const who = useWho();
  const [editing, setEditing] = useState(false);
  const origins = useQuery({ queryKey: key("origins"), queryFn: ({ signal }) => call<{ items: OriginState[] }>("/origins", { signal }) });
  const configured = origins.data?.items.some((o) => o.name === name && !o.missing) ?? false;
  const saved = useQuery({ queryKey: key("record", "/origins", name, "spec"), enabled: configured, queryFn: ({ signal }) => call<SavedSetting>(`/origins/${encodeURIComponent(name)}`, { signal }) });
  const [draft, setDraft] = useDraft(who.name, "origin " + name);
  const spec = draft?.fields.spec as string | undefined;
  const setSpec = (text: string | undefined) => setDraft(text === undefined ? null : { fields: { spec: text }, began: 0 });
  return (
    <Page
      title={name}
      says={origins.data && <OriginHealth origin={origins.data.items.find((o) => o.name === name) ?? ({ name, missing: true } as OriginState)} />}
      actions={who.may.administer && <Main onClick={() => setEditing(true)}>{configured ? "Edit…" : "Configure…"}</Main>}
    >
      <Loaded query={origins}>
        {({ items }) => {
          const of = items.find((o) => o.name === name);
          return (
            <>
              {of && <Facts of={of} />}
              {configured && <Untaken name={name} />}
              {configured && who.may.administer && <Work name={name} />}
              {configured && who.may.administer && <Swap name={name} others={items.filter((o) => o.name !== name && o.entries > 0)} />}
              {who.may.administer && !configured && <Calls name={name} spec={spec} configured={false} />}
              {who.may.administer && <TryItem name={name} spec={spec} setSpec={setSpec} saved={configured ? saved.data?.spec : blank} />}
              {who.may.administer && configured && <Calls name={name} spec={spec} configured />}
            </>
          );
        }}
      </Loaded>
      {editing && <RecordWindow path="/origins" what="origin" name={configured ? name : undefined} called={name} initial={configured ? undefined : blank} text={spec} close={() => setEditing(false)} saved={() => setSpec(undefined)} help={help} />}
      <SameByCommand command={configured ? "ubiquon origin show " + name : "ubiquon hook capture " + name} />
    </Page>
  );
}
