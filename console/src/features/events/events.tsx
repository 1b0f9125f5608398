import { Flex, NativeSelect } from "@chakra-ui/react";
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { useSearchParams } from "react-router";
import { call, type EventTrace, key } from "../../api";
import { EventRows } from "./event-rows";
import { Empty, Loaded, Page, SameByCommand } from "../../ui";

export function EventsPage() {
  const [params, setParams] = useSearchParams();
  const state = params.get("state") ?? "";
  const list = useQuery({
    queryKey: key("events", state),
    queryFn: ({ signal }) => call<{ items: EventTrace[] }>("/events?limit=100" + (state ? "&state=" + state : ""), { signal }),
    placeholderData: keepPreviousData,
    refetchInterval: 10_000,
  });
  return (
    <Page title="Events" says="What origins announced, and how it went on its way to visitors">
      <Flex mb="4">
        <NativeSelect.Root size="sm" w="170px">
          <NativeSelect.Field bg="sheet" borderColor="control" aria-label="State" value={state} onChange={(e) => setParams(e.target.value ? { state: e.target.value } : {})}>
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
            <EventRows label="Events" events={items} />
          )
        }
      </Loaded>
      <SameByCommand command={"ubiquon event list" + (state ? " --state " + state : "")} />
    </Page>
  );
}
