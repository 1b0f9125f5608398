import { Box, Heading, Text } from "@chakra-ui/react";
import type { ReactNode } from "react";
import type { EntryDetail } from "../../api";
import { CopyButton, EntryLink, LocaleMarks, Mono, State, When } from "../../ui";
import { PendingSchedule } from "./entry-windows";

/** One part of what is told beside an entry's fields. */
export function Side({ title, children }: { title: string; children: ReactNode }) {
  return (
    <Box borderTopWidth="1px" borderColor="line" pt="2" pb="3">
      <Heading as="h2" fontSize="12px" fontWeight="600" color="faint" mb="1">
        {title}
      </Heading>
      {children}
    </Box>
  );
}

/** What is told of an entry beside its fields: schedules, translations, revisions, who refers to it. */
export function Facts({ e }: { e: EntryDetail }) {
  const pending = (e.schedules ?? []).filter((s) => s.state === "pending");
  return (
    <>
      {pending.length > 0 && (
        <Side title="Scheduled">
          {pending.map((s) => (
            <PendingSchedule key={s.id} of={s} />
          ))}
        </Side>
      )}
      <Side title="Translations">
        <LocaleMarks of={e.locales} live={e.live} />
        <Text color="faint" fontSize="12px" mt="1">
          readers have {e.live?.length ? e.live.join(", ") : "none"}
        </Text>
      </Side>
      <Side title="Revisions">
        <Text>
          {e.revision}
          {e.publishedRevision > 0 ? `, readers see ${e.publishedRevision}` : ", nothing published"}
        </Text>
        <Text color="faint" fontSize="12px">
          saved <When at={e.updated} /> {e.revisions[0]?.by && "by " + e.revisions[0].by}
        </Text>
        {e.published && (
          <Text color="faint" fontSize="12px">
            published <When at={e.published} />
          </Text>
        )}
      </Side>
      {e.reviews?.[0] && (
        <Side title="Review">
          <State of={e.reviews[0].what} /> revision {e.reviews[0].revision} by {e.reviews[0].by}
          {e.reviews[0].remark && <Text>“{e.reviews[0].remark}”</Text>}
        </Side>
      )}
      {!!e.referredBy?.length && (
        <Side title="Referred to by">
          {e.referredBy.map((r) => (
            <Text key={r.entry + r.field}>
              <EntryLink id={r.entry} title={r.title} />{" "}
              <Text as="span" color="faint" fontSize="12px">
                {r.type}, {r.field}
              </Text>
            </Text>
          ))}
        </Side>
      )}
      {!!e.formerPaths?.length && (
        <Side title="Former paths">
          {e.formerPaths.map((p) => (
            <Mono key={p} display="block">
              {p}
            </Mono>
          ))}
        </Side>
      )}
      <Side title="Id">
        <Mono>{e.id}</Mono>
        <CopyButton text={e.id} label="the id" />
      </Side>
    </>
  );
}
