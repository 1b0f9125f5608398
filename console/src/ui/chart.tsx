import "uplot/dist/uPlot.min.css";
import { Box } from "@chakra-ui/react";
import { useEffect, useRef } from "react";
import uPlot from "uplot";

export type Series = {
  name: string;
  values: (number | null)[];
  /** The axis it is drawn against, with its unit; the first series has the left one. */
  unit: string;
  colour: "accent" | "warning" | "good" | "failure";
  bars?: boolean;
  /** The greatest value of the axis, if it is not that of the values. */
  most?: number;
  text: (value: number) => string;
};

const colourOf = (name: string) => getComputedStyle(document.documentElement).getPropertyValue(`--chakra-colors-${name}`).trim() || "#888";

const two = (n: number) => String(n).padStart(2, "0");

/** Values over time, with a line or bars for each series and an axis for each unit. at are seconds since 1970. */
export default function Chart({ at, series, label, height = 170 }: { at: number[]; series: Series[]; label: string; height?: number }) {
  const place = useRef<HTMLDivElement>(null);
  useEffect(() => {
    const box = place.current!;
    const ink = colourOf("faint");
    const line = colourOf("line");
    const units = [...new Set(series.map((s) => s.unit))];
    const long = (at[at.length - 1] ?? 0) - (at[0] ?? 0) > 2 * 86_400;
    const made = new uPlot(
      {
        width: box.clientWidth,
        height,
        cursor: { points: { size: 6 }, drag: { x: false, y: false } },
        legend: { live: true },
        hooks: { ready: [(u) => u.setLegend({ idx: at.length - 1 })] },
        scales: { x: { time: true }, ...Object.fromEntries(units.map((u) => [u, { range: (_u: uPlot, _min: number, max: number): [number, number] => [0, series.find((s) => s.unit === u)?.most ?? Math.max(1, max * 1.1)] }])) },
        axes: [
          {
            stroke: ink,
            grid: { stroke: line, width: 1 },
            ticks: { stroke: line, width: 1 },
            font: "12px 'Figtree Variable', sans-serif",
            values: (_u, all) =>
              all.map((s) => {
                const d = new Date(s * 1000);
                return long ? `${two(d.getDate())}.${two(d.getMonth() + 1)}. ${two(d.getHours())}:${two(d.getMinutes())}` : `${two(d.getHours())}:${two(d.getMinutes())}`;
              }),
            space: long ? 110 : 60,
          },
          ...units.map((u, i) => ({
            scale: u,
            side: i === 0 ? (3 as const) : (1 as const),
            stroke: ink,
            grid: i === 0 ? { stroke: line, width: 1 } : { show: false },
            ticks: { stroke: line, width: 1 },
            font: "12px 'Figtree Variable', sans-serif",
            size: 62,
            values: (_u: uPlot, all: number[]) => all.map((v) => series.find((s) => s.unit === u)!.text(v)),
          })),
        ],
        series: [
          { label: "at", value: (_u, s) => (s === null ? "–" : new Date(s * 1000).toLocaleString("sv-SE").slice(0, 16)) },
          ...series.map((s) => ({
            label: s.name,
            scale: s.unit,
            stroke: colourOf(s.colour),
            width: s.bars ? 0 : 2,
            fill: s.bars ? colourOf(s.colour) + "88" : undefined,
            paths: s.bars ? uPlot.paths.bars!({ size: [0.7, 24] }) : undefined,
            points: { show: !s.bars && s.values.filter((v) => v !== null).length < 40, size: 5 },
            value: (_u: uPlot, v: number | null) => (v === null ? "–" : s.text(v)),
          })),
        ],
      },
      [at, ...series.map((s) => (s.bars ? s.values.map((v) => v || null) : s.values))] as uPlot.AlignedData,
      box,
    );
    const fit = new ResizeObserver(() => box.clientWidth !== made.width && made.setSize({ width: box.clientWidth, height }));
    fit.observe(box);
    return () => {
      fit.disconnect();
      made.destroy();
    };
  }, [at, series, height]);
  const last = series.map((s) => `${s.name}: ${s.text(s.values.findLast((v) => v !== null) ?? 0)}`).join(", ");
  return <Box ref={place} role="img" aria-label={`${label}. At last ${last}`} data-chart={label} css={{ "& .uplot": { fontFamily: "inherit" }, "& .u-legend": { fontSize: "12px", textAlign: "left", color: "var(--chakra-colors-ink)" }, "& .u-legend th": { fontWeight: 500 }, "& .u-legend .u-marker": { borderRadius: "1px" } }} />;
}
