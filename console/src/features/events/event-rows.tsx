import { Link } from "react-router";
import type { EventTrace } from "../../api";
import { Cell, EntryLink, Row, Rows, State, When } from "../../ui";
import { between, TraceLegend, TraceLine } from "../../ui/trace";

/** Events as a table, each with its way; of one entry's events the entry is left out. */
export function EventRows({ label, events, ofOneEntry = false }: { label: string; events: EventTrace[]; ofOneEntry?: boolean }) {
  const head = ["Accepted", ...(ofOneEntry ? [] : ["From", "Entry"]), "What", "Trace", "Fresh", "Built", "Live", "State"];
  return (
    <>
      <Rows label={label} head={head} numbers={["Fresh", "Built", "Live"]}>
        {events.map((e) => (
          <Row key={e.id} data-event={e.id}>
            <Cell>
              <Link to={"/events/" + e.id}>
                <When at={e.received} />
              </Link>
            </Cell>
            {!ofOneEntry && (
              <>
                <Cell>{e.origin}</Cell>
                <Cell>
                  <EntryLink id={e.entry} title={e.title} />
                </Cell>
              </>
            )}
            <Cell>{e.decoded?.kind ?? "–"}</Cell>
            <Cell>
              <TraceLine trace={e.trace} width={200} />
            </Cell>
            <Cell right>{between(e.trace.published, e.trace.expired)}</Cell>
            <Cell right>{between(e.trace.published, e.trace.built)}</Cell>
            <Cell right>{between(e.trace.published, e.trace.live)}</Cell>
            <Cell>
              <State of={e.state} />
            </Cell>
          </Row>
        ))}
      </Rows>
      <TraceLegend />
    </>
  );
}
