import { Box, Flex, Input } from "@chakra-ui/react";
import { keepPreviousData, useInfiniteQuery } from "@tanstack/react-query";
import { useState } from "react";
import { useSearchParams } from "react-router";
import { type Act as Line, call, type Grant, grantText, key, Problem } from "../../api";
import { Act, Cell, EntryLink, Failure, inputStyle, Loaded, Mono, Page, Row, Rows, SameByCommand, When } from "../../ui";

type Plain = Record<string, unknown>;
const plain = (v: unknown): v is Plain => typeof v === "object" && v !== null && !Array.isArray(v);
const grants = (v: unknown): v is Grant[] => Array.isArray(v) && v.every((g) => plain(g) && "verb" in g);
const brief = (v: unknown): string => (v === undefined || v === null || v === "" ? "" : grants(v) ? v.map(grantText).join(", ") : typeof v === "string" ? v : JSON.stringify(v));

// What is on the line already, or only a machine would want.
const left = ["id", "by", "created", "hasPassword"];

/** What differs between two states, a line each. */
function differing(before: unknown, after: unknown): string[] {
  if (grants(before) || grants(after)) {
    const [was, is] = [before, after].map((v) => (grants(v) ? v.map(grantText) : []));
    return [...is!.filter((g) => !was!.includes(g)).map((g) => "+ " + g), ...was!.filter((g) => !is!.includes(g)).map((g) => "− " + g)];
  }
  const [was, is] = [plain(before) ? before : {}, plain(after) ? after : {}];
  const made = !plain(before);
  return [...new Set([...Object.keys(was), ...Object.keys(is)])]
    .filter((k) => !left.includes(k) && brief(was[k]) !== brief(is[k]))
    .map((k) => (made ? `${k}: ${brief(is[k])}` : `${k}: ${brief(was[k]) || "–"} → ${brief(is[k]) || "–"}`));
}

export function AuditPage() {
  const [params, setParams] = useSearchParams();
  const filter = new URLSearchParams([...params].filter(([, v]) => v));
  // The address has a local time, as it was typed; the service is asked with its zone.
  if (filter.has("after")) filter.set("after", new Date(filter.get("after")!).toISOString());
  const [failed, setFailed] = useState<unknown>(null);
  const lines = useInfiniteQuery({
    queryKey: key("audit", filter.toString()),
    initialPageParam: 0,
    placeholderData: keepPreviousData,
    queryFn: ({ pageParam, signal }) => call<{ items: Line[] }>(`/audit?${filter}${pageParam ? (filter.size ? "&" : "") + "below=" + pageParam : ""}`, { signal }),
    getNextPageParam: (last) => (last.items.length === 100 ? last.items[99]!.id : undefined),
  });
  const put = (name: string, value: string) => {
    const next = new URLSearchParams(params);
    if (value) next.set(name, value);
    else next.delete(name);
    setParams(next, { replace: true });
  };
  async function download() {
    setFailed(null);
    const answer = await fetch("/control/v1/audit?" + filter, { headers: { Accept: "application/x-ndjson" } });
    if (!answer.ok) {
      const p = await answer.json().catch(() => ({}));
      setFailed(new Problem(answer.status, p.title ?? "Failed", p.detail ?? `The service answered ${answer.status}.`, p.hint));
      return;
    }
    const a = document.createElement("a");
    a.href = URL.createObjectURL(await answer.blob());
    a.download = "audit.ndjson";
    a.click();
    URL.revokeObjectURL(a.href);
  }
  const items = lines.data && { items: lines.data.pages.flatMap((p) => p.items) };
  return (
    <Page title="Audit log" says="Who did what, and what it changed" actions={<Act onClick={download}>Export as NDJSON</Act>}>
      <Failure error={failed} />
      <Flex gap="2" mb="3">
        <Input {...inputStyle} w="230px" aria-label="Who" placeholder="who: e-mail or key" defaultValue={params.get("who") ?? ""} onBlur={(e) => put("who", e.target.value)} onKeyDown={(e) => e.key === "Enter" && put("who", e.currentTarget.value)} />
        <Input {...inputStyle} w="200px" aria-label="What" placeholder="what: key, entry publish" defaultValue={params.get("what") ?? ""} onBlur={(e) => put("what", e.target.value)} onKeyDown={(e) => e.key === "Enter" && put("what", e.currentTarget.value)} />
        <Input {...inputStyle} w="200px" aria-label="Subject" placeholder="to what: an id" defaultValue={params.get("subject") ?? ""} onBlur={(e) => put("subject", e.target.value)} onKeyDown={(e) => e.key === "Enter" && put("subject", e.currentTarget.value)} />
        <Input {...inputStyle} w="190px" type="datetime-local" aria-label="After" defaultValue={params.get("after") ?? ""} onChange={(e) => put("after", e.target.value)} />
      </Flex>
      <Loaded query={{ data: items, error: lines.error }}>
        {(a) => (
          <Rows label="Audit log" head={["At", "Who", "What", "To what", "Before → after"]}>
            {a.items.map((l) => (
              <Row key={l.id} data-act={l.what}>
                <Cell>
                  <When at={l.at} />
                </Cell>
                <Cell>
                  <span title={l.kind + (l.address ? " from " + l.address : "")}>{l.who}</span>
                </Cell>
                <Cell>{l.what}</Cell>
                <Cell>{l.what.startsWith("entry ") ? <EntryLink id={l.subject} title={l.subject} /> : <Mono>{l.subject}</Mono>}</Cell>
                <Cell>
                  <Box maxW="420px">
                    {differing(l.before, l.after).map((d) => (
                      <Mono key={d} display="block" truncate title={d}>
                        {d}
                      </Mono>
                    ))}
                  </Box>
                </Cell>
              </Row>
            ))}
          </Rows>
        )}
      </Loaded>
      {lines.hasNextPage && (
        <Act mt="3" loading={lines.isFetchingNextPage} onClick={() => lines.fetchNextPage()}>
          Older lines
        </Act>
      )}
      <SameByCommand command={"ubiquon audit" + [...filter].map(([k, v]) => ` --${k} ${v}`).join("")} />
    </Page>
  );
}
