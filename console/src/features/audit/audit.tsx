import { Box, Flex, Input } from "@chakra-ui/react";
import { keepPreviousData, useInfiniteQuery } from "@tanstack/react-query";
import { useCallback, useState } from "react";
import { useSearchParams } from "react-router";
import { type Act as Line, call, type Grant, grantText, key, Problem } from "../../api";
import { usePutAddress } from "../../lib/address";
import { useRecordModel } from "../../lib/use-model";
import { Act, Empty, EntryLink, Failure, inputStyle, List, Loaded, Mono, Page, SameByCommand, When, type Column } from "../../ui";
import { FilterBar, Views } from "../../ui/filter-bar";

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

const quick = [
  ["who", "Who", "who: e-mail or key"],
  ["what", "What", "what: key, entry publish"],
  ["subject", "Subject", "to what: an id"],
] as const;

const columns: Column<Line>[] = [
  { name: "At", width: "140px", head: true, cell: (l) => <When at={l.at} /> },
  { name: "Who", width: "220px", cell: (l) => <span title={l.kind + (l.address ? " from " + l.address : "")}>{l.who}</span> },
  { name: "What", width: "140px", cell: (l) => <span data-what={l.what}>{l.what}</span> },
  { name: "To what", width: "180px", cell: (l) => (l.what.startsWith("entry ") ? <EntryLink id={l.subject} title={l.subject} /> : <Mono wordBreak="break-all">{l.subject}</Mono>) },
  {
    name: "Before → after",
    cell: (l) => (
      <Box maxW="420px">
        {differing(l.before, l.after).map((d) => (
          <Mono key={d} display="block" truncate title={d}>
            {d}
          </Mono>
        ))}
      </Box>
    ),
  },
];

export function AuditPage() {
  const records = useRecordModel();
  const [params] = useSearchParams();
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
  const putAddress = usePutAddress();
  const put = (name: string, value: string) => putAddress({ [name]: value }, { replace: true });
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
  const { hasNextPage, isFetchingNextPage, fetchNextPage } = lines;
  const items = lines.data && { items: lines.data.pages.flatMap((p) => p.items) };
  const count = items?.items.length ?? 0;
  const shown = useCallback((_: number, last: number) => void (hasNextPage && !isFetchingNextPage && last >= count - 20 && fetchNextPage()), [hasNextPage, isFetchingNextPage, fetchNextPage, count]);
  return (
    <Page title="Audit log" says="Who did what, and what it changed" actions={<Act onClick={download}>Export as NDJSON</Act>}>
      <Failure error={failed} />
      <Flex gap="2" mb="3" wrap="wrap">
        {quick.map(([name, label, hint]) => (
          <Input
            key={name + (params.get(name) ?? "")}
            {...inputStyle}
            w="200px"
            aria-label={label}
            placeholder={hint}
            defaultValue={params.get(name) ?? ""}
            onBlur={(e) => put(name, e.target.value)}
            onKeyDown={(e) => e.key === "Enter" && put(name, e.currentTarget.value)}
          />
        ))}
        <Input {...inputStyle} w="200px" type="datetime-local" aria-label="After" value={params.get("after") ?? ""} onChange={(e) => put("after", e.target.value)} />
        <Views page="audit" />
      </Flex>
      <FilterBar model={records.data} type="act" value={params.get("filter") ?? ""} set={(text) => put("filter", text)} error={lines.error} placeholder="A condition in CQL2, as in what LIKE 'key %' AND who = 'duty@skerry.example'" />
      {lines.error && filter.has("filter") && !items ? null : (
        <Loaded query={{ data: items, error: filter.has("filter") ? null : lines.error }}>
          {(a) => (a.items.length === 0 ? <Empty>No match.</Empty> : <List label="Audit log" columns={columns} rows={a.items} rowKey={(l) => String(l.id)} mark="act" tall shown={shown} />)}
        </Loaded>
      )}
      <SameByCommand command={"ubiquon audit" + [...filter].map(([k, v]) => ` --${k} ${v}`).join("")} />
    </Page>
  );
}
