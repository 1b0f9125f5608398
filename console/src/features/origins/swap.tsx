import { Box, Flex, Text } from "@chakra-ui/react";
import { useState } from "react";
import type { Impact, OriginState, Swapped } from "../../api";
import { Act, Failure, Pick, Section } from "../../ui";
import { Differences, Lines, useWork } from "./work";

/** Has the origin take the place of another one: first as a rehearsal, then in earnest. */
export function Swap({ name, others }: { name: string; others: OriginState[] }) {
  const [from, setFrom] = useState("");
  const [rehearsed, setRehearsed] = useState("");
  const swap = useWork<Swapped>(`/origins/${encodeURIComponent(name)}/swap`);
  const other = others.some((o) => o.name === from) ? from : "";
  const go = (apply: boolean) => swap.mutate({ from: other, apply }, { onSuccess: () => setRehearsed(apply ? "" : other) });
  const done = swap.data;
  return (
    <Section
      title="Take the place of another origin"
      actions={
        <Flex gap="2" wrap="wrap">
          <Pick
            label="The other origin"
            value={other}
            onChange={(value) => {
              setFrom(value);
              setRehearsed("");
              swap.reset();
            }}
          >
            <option value="">choose one</option>
            {others.map((o) => (
              <option key={o.name}>{o.name}</option>
            ))}
          </Pick>
          <Act disabled={!other} loading={swap.isPending} loadingText={swap.seen || "Comparing"} onClick={() => go(false)}>
            Rehearse
          </Act>
          <Act disabled={!other || rehearsed !== other} loading={swap.isPending} onClick={() => go(true)}>
            Swap
          </Act>
        </Flex>
      }
    >
      <Failure error={swap.error} />
      {!done && <Text color="faint">Entries keep their ids and paths, and readers get what they got. The rehearsal changes nothing and says what would differ; the other origin can take its place back the same way.</Text>}
      {done && (
        <>
          <Text role="status" data-swapped={done.adoption.applied ? "applied" : "rehearsed"}>
            {done.adoption.applied ? `${name} has taken the place of ${from}` : `${name} would take the place of ${from}`} for {done.types.join(", ")}: {done.adoption.adopted} entries change hands
            {Object.entries(done.adoption.by).map(([by, n]) => `, ${n} by ${by}`)}, {done.adoption.newAll ?? 0} are new, {done.adoption.leftAll ?? 0} stay without an item.
          </Text>
          <Differences of={done.differences} />
          {done.readers && <Readers of={done.readers} />}
        </>
      )}
    </Section>
  );
}

/** What readers would get otherwise. */
function Readers({ of }: { of: Impact }) {
  const lines = [
    ...of.saved.map((name) => `≠ saved read ${name}`),
    ...of.answers.map((a) => `≠ ${a.asked}`),
    ...of.pages.map((p) => `${p.site}: ${p.elsewhere ? "another node knows" : p.whole ? "the whole site" : p.pages.length ? p.pages.join(", ") : "no page"}`),
  ];
  return (
    <Box data-impact>
      <Text>
        Readers would see {of.changes} changes; {of.answersAll} answers that are held would be computed again.
      </Text>
      <Lines of={lines} />
    </Box>
  );
}
