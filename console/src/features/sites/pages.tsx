import { Box, Flex, Text } from "@chakra-ui/react";
import { useInfiniteQuery, useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useParams, useSearchParams } from "react-router";
import { call, key, refreshAll, type PageCheck, type SitePages } from "../../api";
import { useWho } from "../../lib/who";
import { Act, Cell, Empty, EntryLink, Failure, Loaded, Mono, Page, Pick, Row, Rows, SameByCommand, When } from "../../ui";

/** The pages of a site: what each is made of, and which are stale. */
export function SitePagesPage() {
  const { site = "" } = useParams();
  const who = useWho();
  const queries = useQueryClient();
  const [stale, setStale] = useState("");
  const [params] = useSearchParams();
  const entry = params.get("entry") ?? "";
  const asked = new URLSearchParams({ site, limit: "100", ...(stale ? { stale } : {}), ...(entry ? { entry } : {}) });
  const pages = useInfiniteQuery({
    queryKey: key("pages", asked.toString()),
    queryFn: ({ signal, pageParam }) => call<SitePages>(`/pages?${asked}${pageParam ? "&after=" + encodeURIComponent(pageParam) : ""}`, { signal }),
    initialPageParam: "",
    getNextPageParam: (last) => last.next || undefined,
  });
  const check = useMutation({ mutationFn: () => call<PageCheck>("/pages/check", { method: "POST", body: { site } }), onSettled: () => refreshAll(queries) });
  const ledger = pages.data?.pages[0]?.ledger;
  return (
    <Page
      title={`Pages of ${site}`}
      says={ledger && `${ledger.pages} pages, ${ledger.stale} stale, made of ${ledger.reads} requests`}
      actions={
        who.may.administer && (
          <Act loading={check.isPending} onClick={() => check.mutate()}>
            Check all
          </Act>
        )
      }
    >
      <Flex gap="3" mb="4" wrap="wrap">
        <Pick label="Which pages" value={stale} onChange={setStale}>
          <option value="">all pages</option>
          <option value="true">stale ones</option>
          <option value="false">those that are not stale</option>
        </Pick>
        {entry && (
          <Text>
            that show <EntryLink id={entry} title={entry} />, <Link to={`/sites/${encodeURIComponent(site)}/pages`}>all of them</Link>
          </Text>
        )}
      </Flex>
      {ledger?.wholeTypes && (
        <Text role="note" mb="4">
          The site has more pages than are known one by one (knownUpTo): any change of {ledger.wholeTypes.includes("") ? "any type" : ledger.wholeTypes.join(", ")} makes all of it
          stale.
        </Text>
      )}
      <Failure error={check.error} />
      {check.data && (
        <Box role="status" mb="4">
          {check.data.reads} requests made again, {check.data.wrong.length} give something else than is known.
          {check.data.wrong.map((w) => (
            <Text key={w.request} color="failure">
              ✕ {w.request}: known as {w.known}, is {w.is}
            </Text>
          ))}
        </Box>
      )}
      {ledger?.structure && (
        <Text role="status" color="warning" mb="3">
          ◐ The site is stale as a whole: what tells which pages there are gives something else.
        </Text>
      )}
      <Loaded query={pages}>
        {({ pages: all }) => {
          const items = all.flatMap((p) => p.items);
          if (items.length === 0)
            return <Empty>{stale || entry ? "No page is like that." : "The site has not said yet what its pages are made of: see Ubiquon-Page and the kit."}</Empty>;
          return (
            <Rows label={`Pages of ${site}`} head={["Page", "State", "Since sequence", "By", "Rendered", "Requests"]} numbers={["Requests"]}>
              {items.map((p) => (
                <Row key={p.page} data-page={p.page}>
                  <Cell>
                    <Mono>{p.page}</Mono>
                  </Cell>
                  <Cell>{p.staleSince === null ? "● as it should be" : p.gone ? "⊘ gone" : "◐ stale"}</Cell>
                  <Cell>{p.staleSince !== null && <Mono>{p.staleSince}</Mono>}</Cell>
                  <Cell>{p.causes.map((c) => [c.what, c.type].filter(Boolean).join(" ")).join(", ")}</Cell>
                  <Cell>
                    <When at={p.registered} />
                  </Cell>
                  <Cell right>
                    <details>
                      <summary>{p.reads.length}</summary>
                      {p.reads.map((request) => (
                        <Box key={request} fontFamily="mono" fontSize="12px" textAlign="left" overflowWrap="anywhere">
                          {request}
                        </Box>
                      ))}
                    </details>
                  </Cell>
                </Row>
              ))}
            </Rows>
          );
        }}
      </Loaded>
      {pages.hasNextPage && (
        <Act loading={pages.isFetchingNextPage} onClick={() => void pages.fetchNextPage()}>
          Show more
        </Act>
      )}
      <SameByCommand command={`ubiquon page list ${site}`} />
    </Page>
  );
}
