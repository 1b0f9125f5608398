import { Box, Flex, Text, Textarea } from "@chakra-ui/react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { call, edit, key, refreshAll, type Difference, type Entry, type EntryDetail } from "../../api";
import { useWho } from "../../lib/who";
import { useModel } from "../../lib/use-model";
import { Act, EntryLink, Failure, inputStyle, Loaded, Main, Section, toast, When } from "../../ui";
import { Differences } from "../entries/differences";

/** What is in review and may be decided by who is signed in, with the decision in place. */
export function Waiting() {
  const who = useWho();
  const reviews = useQuery({ queryKey: key("reviews"), enabled: who.may.publish, queryFn: ({ signal }) => call<{ items: Entry[]; total: number }>("/entries?state=in+review&limit=20", { signal }) });
  if (!reviews.data?.items.length) return null;
  return (
    <Section title={`Waiting for you: ${reviews.data.total} in review`}>
      <Box as="ul" listStyleType="none" borderTopWidth="1px" borderColor="line">
        {reviews.data.items.map((e) => (
          <Decision key={e.id} e={e} />
        ))}
      </Box>
    </Section>
  );
}

function Decision({ e }: { e: Entry }) {
  const [open, setOpen] = useState(false);
  return (
    <Box as="li" py="2" borderBottomWidth="1px" borderColor="line" data-review={e.id}>
      <Flex gap="3" align="center" wrap="wrap">
        <EntryLink id={e.id} title={e.title} />
        <Text color="faint" flex="1">
          {e.type}, saved <When at={e.updated} />
        </Text>
        <Act aria-expanded={open} onClick={() => setOpen(!open)}>
          {open ? "Close" : "Look and decide"}
        </Act>
      </Flex>
      {open && <Details e={e} />}
    </Box>
  );
}

function Details({ e }: { e: Entry }) {
  const who = useWho();
  const queries = useQueryClient();
  const model = useModel({ staleTime: 60_000 });
  const [remark, setRemark] = useState("");
  const detail = useQuery({ queryKey: key("entry", e.id), queryFn: ({ signal }) => call<EntryDetail>("/entries/" + e.id, { signal }) });
  const from = e.publishedRevision > 0 ? 0 : e.revision > 1 ? 1 : null;
  const compared = useQuery({
    queryKey: key("differences", e.id, from, e.revision),
    enabled: from !== null,
    queryFn: ({ signal }) => call<{ differences: Difference[] }>(`/entries/${e.id}/differences?from=${from}&to=${e.revision}`, { signal }),
  });
  const decide = useMutation({
    mutationFn: (what: "approve" | "return") => edit({ id: e.id, do: what, remark }),
    onSuccess: (_, what) => toast.done(what === "approve" ? `“${e.title}” is approved.` : `“${e.title}” is sent back.`),
    onSettled: () => refreshAll(queries),
  });
  const submitted = detail.data?.reviews?.find((r) => r.what === "submitted");
  const own = submitted?.by === who.name && !!model.data?.types.find((t) => t.name === e.type)?.approval;
  return (
    <Box pt="3" pl="4">
      {submitted && (
        <Text mb="2">
          Revision {submitted.revision}, submitted by {submitted.by} <When at={submitted.at} />
          {submitted.remark && <>: “{submitted.remark}”</>}
        </Text>
      )}
      {from === null ? <Text color="faint">It is new: open it to read it.</Text> : <Loaded query={compared}>{(c) => <Differences all={c.differences} before={from === 0 ? "What readers get" : "Revision 1"} after={`Revision ${e.revision}`} />}</Loaded>}
      <Failure error={decide.error} />
      {own ? (
        <Text mt="3" color="faint">
          You submitted it yourself; somebody else approves it.
        </Text>
      ) : (
        <Flex gap="2" mt="3" align="start" wrap="wrap">
          <Textarea {...inputStyle} rows={1} flex="1 1 260px" aria-label={"Remark on " + e.title} placeholder="A remark, if there is something to say" value={remark} onChange={(ev) => setRemark(ev.target.value)} />
          <Act h="8" loading={decide.isPending} onClick={() => decide.mutate("return")}>
            Send back
          </Act>
          <Main loading={decide.isPending} onClick={() => decide.mutate("approve")}>
            Approve
          </Main>
        </Flex>
      )}
    </Box>
  );
}
