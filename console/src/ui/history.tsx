import { Box, Flex } from "@chakra-ui/react";
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { lazy, Suspense, useMemo } from "react";
import { useSearchParams } from "react-router";
import { call, key, type CacheSample } from "../api";
import { usePutAddress } from "../lib/address";
import { Act } from "./controls";
import { spanText } from "./format";
import { Loaded, Section } from "./page";
import type { Series } from "./chart";

const Chart = lazy(() => import("./chart"));

const spans = { hour: "an hour", day: "a day", week: "a week" } as const;
const seconds = { hour: 60, day: 600, week: 3600 };
const per = { hour: "per minute", day: "in 10 minutes", week: "per hour" };

const percent = (v: number) => v.toFixed(0) + " %";
const count = (v: number) => (v >= 10_000 ? (v / 1000).toFixed(0) + " k" : v % 1 ? v.toFixed(1) : String(v));

const drawn: Record<"reads" | "cache", (all: CacheSample[], span: keyof typeof spans) => Series[]> = {
  reads: (all, span) => [
    { name: "reads a second", unit: "reads/s", colour: "accent", values: all.map((s) => (s.hits + s.misses) / seconds[span]), text: (v) => (v < 10 ? v.toFixed(2) : v.toFixed(0)) + "/s" },
    { name: "99 % of them within", unit: "time", colour: "warning", values: all.map((s) => (s.p99ms > 0 ? s.p99ms : null)), text: spanText },
  ],
  cache: (all, span) => [
    { name: "share of hits", unit: "%", most: 100, colour: "accent", values: all.map((s) => (s.hits + s.misses ? (100 * s.hits) / (s.hits + s.misses) : null)), text: percent },
    { name: `expired by a change, ${per[span]}`, unit: "answers", colour: "warning", bars: true, values: all.map((s) => s.expired), text: count },
  ],
};

/** What all nodes did over an hour, a day or a week. */
export function History({ of, title }: { of: keyof typeof drawn; title: string }) {
  const [params] = useSearchParams();
  const put = usePutAddress();
  const asked = params.get("span") ?? "hour";
  const span = asked in spans ? (asked as keyof typeof spans) : "hour";
  const history = useQuery({ queryKey: key("history", span), queryFn: ({ signal }) => call<{ items: CacheSample[] }>("/cache/history?span=" + span, { signal }), placeholderData: keepPreviousData });
  const items = history.data?.items;
  const at = useMemo(() => (items ?? []).map((s) => Date.parse(s.at) / 1000), [items]);
  const series = useMemo(() => drawn[of](items ?? [], span), [of, items, span]);
  return (
    <Section
      title={title}
      actions={
        <Flex gap="1" role="group" aria-label="Over how long">
          {Object.entries(spans).map(([name, words]) => (
            <Act
              key={name}
              aria-pressed={name === span}
              borderColor={name === span ? "accent" : "control"}
              color={name === span ? "accent" : "ink"}
              onClick={() => put({ span: name === "hour" ? "" : name }, { replace: true })}
            >
              {words}
            </Act>
          ))}
        </Flex>
      }
    >
      <Loaded query={history}>
        {() => (
          <Box bg="sheet" borderWidth="1px" borderColor="line" p="3" data-history={span}>
            <Suspense fallback={<Box h="220px" />}>
              <Chart at={at} series={series} label={title} />
            </Suspense>
          </Box>
        )}
      </Loaded>
    </Section>
  );
}
