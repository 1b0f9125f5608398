import { Flex, Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { Link, useSearchParams } from "react-router";
import { call, key, type Difference, type EntryDetail } from "../../api";
import { Act, Cell, Loaded, Mono, Pick, Row, Rows, Section, State, When } from "../../ui";
import { EventRows } from "../events/event-rows";
import { Differences } from "./differences";
import { PendingSchedule } from "./entry-windows";

/** Two states of an entry beside each other. */
export function CompareView({ e }: { e: EntryDetail }) {
  const [params, setParams] = useSearchParams();
  const from = params.get("from") ?? (e.publishedRevision > 0 ? "0" : String(Math.max(1, e.revision - 1)));
  const to = params.get("to") ?? String(e.revision);
  const compared = useQuery({
    queryKey: key("differences", e.id, from, to),
    queryFn: ({ signal }) => call<{ differences: Difference[] }>(`/entries/${e.id}/differences?from=${from}&to=${to}`, { signal }),
  });
  const name = (n: string) => (n === "0" ? "What readers get" : n === String(e.revision) ? `Revision ${n}, the newest` : "Revision " + n);
  const choose = (which: string, label: string, value: string) => (
    <Pick label={label} value={value} onChange={(v) => setParams((before) => ({ ...Object.fromEntries(before), [which]: v }))}>
      {which === "from" && e.publishedRevision > 0 && <option value="0">What readers get</option>}
      {e.revisions.map((r) => (
        <option key={r.number} value={r.number}>
          {name(String(r.number))}
        </option>
      ))}
    </Pick>
  );
  return (
    <>
      <Flex gap="3" mb="3" align="center">
        {choose("from", "Compare", from)}
        <Text color="faint">with</Text>
        {choose("to", "With", to)}
      </Flex>
      <Loaded query={compared}>{(c) => <Differences all={c.differences} before={name(from)} after={name(to)} />}</Loaded>
    </>
  );
}

/** What became of an entry: its revisions, reviews, schedules, events and changes. */
export function HistoryView({ e, restore, canRestore }: { e: EntryDetail; restore: (revision: number) => void; canRestore: boolean }) {
  return (
    <>
      <Section title="Revisions">
        <Rows label="Revisions" head={["Revision", "Saved", "By", "Message", ""]}>
          {e.revisions.map((r) => (
            <Row key={r.number} data-revision={String(r.number)}>
              <Cell>
                {r.number} {r.number === e.publishedRevision && <State of="published" />}
              </Cell>
              <Cell>
                <When at={r.at} />
              </Cell>
              <Cell>{r.by}</Cell>
              <Cell>{r.message}</Cell>
              <Cell>
                {r.number !== e.revision && (
                  <Flex gap="2">
                    <Link to={`?view=differences&from=${r.number}`}>compare</Link>
                    {canRestore && <Act onClick={() => restore(r.number)}>Restore</Act>}
                  </Flex>
                )}
              </Cell>
            </Row>
          ))}
        </Rows>
      </Section>
      {!!e.reviews?.length && (
        <Section title="Review">
          <Rows label="Review" head={["Revision", "At", "By", "What", "Remark"]}>
            {e.reviews.map((r) => (
              <Row key={r.at + r.what}>
                <Cell>{r.revision}</Cell>
                <Cell>
                  <When at={r.at} />
                </Cell>
                <Cell>{r.by}</Cell>
                <Cell>
                  <State of={r.what} />
                </Cell>
                <Cell>{r.remark}</Cell>
              </Row>
            ))}
          </Rows>
        </Section>
      )}
      {!!e.schedules?.length && (
        <Section title="Schedules">
          {e.schedules.map((s) => (
            <PendingSchedule key={s.id} of={s} />
          ))}
        </Section>
      )}
      {e.events.length > 0 && (
        <Section title="Events">
          <EventRows label="Events" events={e.events} ofOneEntry />
        </Section>
      )}
      <Section title="Changes that readers could see">
        <Rows label="Changes" head={["Sequence", "At", "Edition", "What", "Differs in", "Cause"]}>
          {e.changes.map((c) => (
            <Row key={c.sequence}>
              <Cell>
                <Mono>{c.sequence}</Mono>
              </Cell>
              <Cell>
                <When at={c.at} />
              </Cell>
              <Cell>{c.edition}</Cell>
              <Cell>{c.what}</Cell>
              <Cell>
                <Mono>{differing(c.fields ?? null)}</Mono>
              </Cell>
              <Cell>
                {c.cause.kind} {c.cause.name}
              </Cell>
            </Row>
          ))}
        </Rows>
      </Section>
    </>
  );
}

/** The fields that differ, each once, without what is only said about the entry. */
function differing(fields: Record<string, string[]> | null): string {
  const names = new Set(Object.values(fields ?? {}).flat());
  const own = [...names].filter((n) => !n.startsWith("about."));
  return own.length === 0 ? "dates only" : own.length > 5 ? own.slice(0, 5).join(" ") + " …" : own.join(" ");
}
