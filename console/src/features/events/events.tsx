import { Flex } from "@chakra-ui/react";
import { keepPreviousData, useInfiniteQuery } from "@tanstack/react-query";
import { useCallback } from "react";
import { Link, useSearchParams } from "react-router";
import { call, key, type EventTrace } from "../../api";
import { usePutAddress } from "../../lib/address";
import { useRecordModel } from "../../lib/use-model";
import { Empty, EntryLink, Failure, List, Loaded, Page, Pick, SameByCommand, State, When, type Column } from "../../ui";
import { FilterBar, Views } from "../../ui/filter-bar";
import { between, TraceLegend, TraceLine } from "../../ui/trace";

const chunk = 100;

const columns: Column<EventTrace>[] = [
  {
    name: "Accepted",
    head: true,
    width: "130px",
    cell: (e) => (
      <Link to={"/events/" + e.id}>
        <When at={e.received} />
      </Link>
    ),
  },
  { name: "From", width: "130px", cell: (e) => e.origin },
  { name: "Entry", cell: (e) => <EntryLink id={e.entry} title={e.title} /> },
  { name: "What", width: "90px", cell: (e) => e.decoded?.kind ?? "–" },
  { name: "Trace", width: "220px", cell: (e) => <TraceLine trace={e.trace} width={200} /> },
  { name: "Fresh", width: "80px", number: true, cell: (e) => between(e.trace.published, e.trace.expired) },
  { name: "Built", width: "80px", number: true, cell: (e) => between(e.trace.published, e.trace.built) },
  { name: "Live", width: "80px", number: true, cell: (e) => between(e.trace.published, e.trace.live) },
  { name: "State", width: "100px", cell: (e) => <State of={e.state} /> },
];

export function EventsPage() {
  const [params] = useSearchParams();
  const state = params.get("state") ?? "";
  const filter = params.get("filter") ?? "";
  const records = useRecordModel();
  const asked = new URLSearchParams({ limit: String(chunk), ...(state && { state }), ...(filter && { filter }) });
  const list = useInfiniteQuery({
    queryKey: key("events", asked.toString()),
    initialPageParam: "",
    queryFn: ({ pageParam, signal }) => call<{ items: EventTrace[] }>(`/events?${asked}${pageParam && "&before=" + pageParam}`, { signal }),
    getNextPageParam: (last) => (last.items.length === chunk ? last.items[chunk - 1]!.id : undefined),
    placeholderData: keepPreviousData,
  });
  const { hasNextPage, isFetchingNextPage, fetchNextPage } = list;
  const rows = list.data?.pages.flatMap((p) => p.items) ?? [];
  const shown = useCallback((_: number, last: number) => void (hasNextPage && !isFetchingNextPage && last >= rows.length - 20 && fetchNextPage()), [hasNextPage, isFetchingNextPage, fetchNextPage, rows.length]);
  const put = usePutAddress();
  return (
    <Page title="Events" says="What origins announced, and how long each took to reach visitors">
      <Flex mb="3" gap="3" wrap="wrap">
        <Pick label="State" value={state} onChange={(v) => put({ state: v })} w="170px">
          <option value="">every state</option>
          {["waiting", "done", "failed", "refused", "unknown"].map((s) => (
            <option key={s}>{s}</option>
          ))}
        </Pick>
        <Views page="events" />
      </Flex>
      <FilterBar model={records.data} type="event" value={filter} set={(text) => put({ filter: text })} error={list.error} placeholder="A condition in CQL2, as in type = 'notice' AND received > TIMESTAMP('2026-11-01T00:00:00Z')" />
      {list.error && filter && !list.data ? null : (
        <Loaded query={list}>
          {() =>
            rows.length === 0 ? (
              <Empty>{state || filter ? "No event matches." : "Nothing has been announced yet. Publish something in an origin, and watch it arrive."}</Empty>
            ) : (
              <>
                <List label="Events" columns={columns} rows={rows} rowKey={(e) => e.id} mark="event" shown={shown} />
                <TraceLegend />
              </>
            )
          }
        </Loaded>
      )}
      <Failure error={list.error && !filter && list.data ? list.error : null} />
      <SameByCommand command={"ubiquon event list" + (state ? " --state " + state : "") + (filter ? ` --filter "${filter}"` : "")} />
    </Page>
  );
}
