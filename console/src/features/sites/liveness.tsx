import { Box, Text } from "@chakra-ui/react";
import { lazy, Suspense, useMemo } from "react";
import type { Liveness } from "../../api";
import { spanText } from "../../ui";
import type { Series } from "../../ui/chart";

const Chart = lazy(() => import("../../ui/chart"));

/** How long it takes until visitors get a change, in few words; "" if none was looked for. */
export function liveText(of: Liveness): string {
  return of.pages ? `visitors get a change after ${spanText(of.p50ms)}, 95 % within ${spanText(of.p95ms)}, at worst ${spanText(of.worstms)}` : "";
}

/** The same at length, with the days before. */
export function LivenessOf({ of, site }: { of: Liveness; site: string }) {
  const days = of.days.filter((d) => d.pages > 0);
  const { at, series } = useMemo(() => {
    const values = (f: (d: Liveness["days"][number]) => number) => of.days.map((d) => (d.pages ? f(d) : null));
    const series: Series[] = [
      { name: "half within", unit: "time", colour: "accent", values: values((d) => d.p50ms), text: spanText },
      { name: "95 % within", unit: "time", colour: "warning", values: values((d) => d.p95ms), text: spanText },
      { name: "worst", unit: "time", colour: "failure", values: values((d) => d.worstms), text: spanText },
    ];
    return { at: of.days.map((d) => Date.parse(d.day + "T12:00:00") / 1000), series };
  }, [of]);
  return (
    <Box mb="3" data-live={of.pages}>
      <Text fontSize="13px" color={of.late ? "warning" : undefined}>
        {of.pages ? `In the last 24 hours ${liveText(of)}.` : "No change was looked for in the last 24 hours."} {of.pages > 0 && `Seen on ${of.pages} ${of.pages === 1 ? "page" : "pages"}${of.late ? `, ${of.late} late` : ""}.`}{" "}
        {of.waiting > 0 && `Not seen yet on ${of.waiting}${of.trouble ? `: ${of.trouble}` : ""}.`}
      </Text>
      {days.length > 1 && (
        <Box bg="sheet" borderWidth="1px" borderColor="line" p="3" mt="2">
          <Suspense fallback={<Box h="170px" />}>
            <Chart at={at} series={series} label={`Until visitors of ${site} get a change, by day`} height={140} />
          </Suspense>
        </Box>
      )}
    </Box>
  );
}
