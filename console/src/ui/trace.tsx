import { Box, Flex, Text } from "@chakra-ui/react";
import type { Trace } from "../api";
import { spanText } from ".";

const steps: { key: keyof Trace; name: string; says: string }[] = [
  { key: "published", name: "published", says: "by the origin's clock" },
  { key: "accepted", name: "accepted", says: "the hook is stored" },
  { key: "stored", name: "stored", says: "content and change log are written" },
  { key: "expired", name: "expired", says: "no older answer is served" },
  { key: "called", name: "called", says: "the builder was called" },
  { key: "built", name: "built", says: "the site is built" },
  { key: "live", name: "live", says: "the pages that show it, as visitors get them, have it" },
];

type Mark = { key: keyof Trace; name: string; says: string; at: number; since: number; after: number; place: number };

/** The steps that were reached, with their places on the line. Places go by the
 * square root of time, so that milliseconds and seconds can both be seen, and
 * keep a little room between each other. */
function marksOf(trace: Trace, room: number): Mark[] {
  const reached = steps
    .filter((s) => trace[s.key])
    .map((s) => ({ ...s, at: Date.parse(trace[s.key]!) }))
    .sort((a, b) => a.at - b.at);
  const first = reached[0];
  const last = reached[reached.length - 1];
  if (!first || !last) return [];
  const whole = Math.sqrt(Math.max(1, last.at - first.at));
  let before = -room;
  const places = reached.map((s) => (before = Math.max(before + room, Math.sqrt(s.at - first.at) / whole)));
  const stretch = Math.max(1, ...places);
  return reached.map((s, i) => ({ ...s, since: s.at - first.at, after: i ? s.at - reached[i - 1]!.at : 0, place: places[i]! / stretch }));
}

function Shape({ of, x, y }: { of: keyof Trace; x: number; y: number }) {
  const fill = "var(--chakra-colors-accent)";
  const paper = "var(--chakra-colors-sheet)";
  switch (of) {
    case "published":
      return <circle cx={x} cy={y} r="4" fill={paper} stroke={fill} strokeWidth="1.8" />;
    case "accepted":
      return <path d={`M${x} ${y - 6}v12`} stroke={fill} strokeWidth="2.4" />;
    case "expired":
      return <path d={`M${x} ${y - 6}l6 6-6 6-6-6z`} fill={fill} />;
    case "called":
      return <path d={`M${x - 4} ${y - 5}l8 5-8 5z`} fill={paper} stroke={fill} strokeWidth="1.6" />;
    case "built":
      return <rect x={x - 5} y={y - 5} width="10" height="10" fill={fill} />;
    case "live":
      return (
        <>
          <circle cx={x} cy={y} r="6" fill={paper} stroke={fill} strokeWidth="1.6" />
          <circle cx={x} cy={y} r="2.8" fill={fill} />
        </>
      );
    default:
      return <circle cx={x} cy={y} r="3.4" fill={fill} />;
  }
}

/** One event's way as one thin line, for a row of a table. */
export function TraceLine({ trace, width = 220 }: { trace: Trace; width?: number }) {
  const marks = marksOf(trace, 0.07);
  if (marks.length === 0) return <Text color="faint">–</Text>;
  const x = (m: Mark) => 8 + m.place * (width - 16);
  const says = marks.map((m, i) => (i ? `${m.name} after ${spanText(m.after)}` : m.name)).join(", ");
  return (
    <svg width={width} height="20" role="img" aria-label={says} data-trace>
      <title>{says}</title>
      <line x1="8" x2={x(marks[marks.length - 1]!)} y1="10" y2="10" stroke="var(--chakra-colors-accent)" strokeOpacity="0.45" strokeWidth="1.5" />
      {marks.map((m) => (
        <Shape key={m.key} of={m.key} x={x(m)} y={10} />
      ))}
    </svg>
  );
}

/** The same, large, with every duration written out. */
export function TraceFull({ trace }: { trace: Trace }) {
  const marks = marksOf(trace, 0.15);
  const width = 1000;
  const x = (m: Mark) => 40 + m.place * (width - 140);
  if (marks.length === 0) return <Text color="faint">Nothing has happened yet.</Text>;
  return (
    <Box bg="sheet" borderWidth="1px" borderColor="line" px="4" py="3" data-trace-full>
      <svg viewBox={`0 0 ${width} 92`} width="100%" role="img" aria-label="Freshness trace">
        <line x1={x(marks[0]!)} x2={x(marks[marks.length - 1]!)} y1="34" y2="34" stroke="var(--chakra-colors-accent)" strokeOpacity="0.45" strokeWidth="1.5" />
        {marks.map((m, i) => (
          <g key={m.key} fontSize="13" fill="currentColor">
            <Shape of={m.key} x={x(m)} y={34} />
            <text x={x(m)} y="58" textAnchor="middle" fontWeight="600">
              {m.name}
            </text>
            <text x={x(m)} y="76" textAnchor="middle" opacity="0.7" style={mono}>
              {i ? "= " + spanText(m.since) : "0"}
            </text>
            {i > 0 && (
              <text x={(x(m) + x(marks[i - 1]!)) / 2} y="20" textAnchor="middle" style={mono}>
                {"+" + spanText(m.after)}
              </text>
            )}
          </g>
        ))}
      </svg>
    </Box>
  );
}

const mono = { fontFamily: "var(--chakra-fonts-mono)", fontSize: "12px" };

/** What the marks mean. */
export function TraceLegend() {
  return (
    <Flex gap="4" mt="2" color="faint" fontSize="12px" wrap="wrap">
      {steps.map((s) => (
        <Flex key={s.key} align="center" gap="1" title={s.says}>
          <svg width="16" height="16" aria-hidden>
            <Shape of={s.key} x={8} y={8} />
          </svg>
          {s.name}
        </Flex>
      ))}
    </Flex>
  );
}

/** From the origin's publish to the end of older answers, and to the built site. */
export function between(from: string | null, to: string | null): string {
  return from && to ? spanText(Date.parse(to) - Date.parse(from)) : "–";
}
