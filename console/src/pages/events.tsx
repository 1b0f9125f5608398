import { Flex, NativeSelect } from "@chakra-ui/react";
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { Link, useSearchParams } from "react-router";
import { call, type EventTrace } from "../api";
import { Cell, Empty, EntryLink, Loaded, Page, Row, Rows, SameByCommand, State, When } from "../parts";
import { between, TraceLegend, TraceLine } from "../trace";

export function EventsPage() {
  const [params, setParams] = useSearchParams();
  const state = params.get("state") ?? "";
  const list = useQuery({
    queryKey: ["events", state],
    queryFn: ({ signal }) => call<{ items: EventTrace[] }>("/events?limit=100" + (state ? "&state=" + state : ""), { signal }),
    placeholderData: keepPreviousData,
    refetchInterval: 10_000,
  });
  return (
    <Page title="Events" says="What origins announced, and how it went on its way to visitors">
      <Flex mb="4">
        <NativeSelect.Root size="sm" w="170px">
          <NativeSelect.Field bg="sheet" borderColor="line" aria-label="State" value={state} onChange={(e) => setParams(e.target.value ? { state: e.target.value } : {})}>
            <option value="">every state</option>
            {["waiting", "done", "failed", "refused"].map((s) => (
              <option key={s}>{s}</option>
            ))}
          </NativeSelect.Field>
          <NativeSelect.Indicator />
        </NativeSelect.Root>
      </Flex>
      <Loaded query={list}>
        {({ items }) =>
          items.length === 0 ? (
            <Empty>{state ? `No event is ${state}.` : "Nothing has been announced yet. Publish something in an origin, and watch it arrive."}</Empty>
          ) : (
            <>
              <Rows label="Events" head={["Accepted", "From", "Entry", "What", "Way", "Fresh", "Built", "State"]} numbers={["Fresh", "Built"]}>
                {items.map((e) => (
                  <Row key={e.id} data-event={e.id}>
                    <Cell>
                      <Link to={"/events/" + e.id}>
                        <When at={e.received} />
                      </Link>
                    </Cell>
                    <Cell>{e.origin}</Cell>
                    <Cell>
                      <EntryLink id={e.entry} title={e.title} />
                    </Cell>
                    <Cell>{e.decoded?.kind ?? "–"}</Cell>
                    <Cell>
                      <TraceLine trace={e.trace} width={200} />
                    </Cell>
                    <Cell right>{between(e.trace.published, e.trace.expired)}</Cell>
                    <Cell right>{between(e.trace.published, e.trace.built)}</Cell>
                    <Cell>
                      <State of={e.state} />
                    </Cell>
                  </Row>
                ))}
              </Rows>
              <TraceLegend />
            </>
          )
        }
      </Loaded>
      <SameByCommand command={"ubiquon event list" + (state ? " --state " + state : "")} />
    </Page>
  );
}
