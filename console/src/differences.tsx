import { Box, Text } from "@chakra-ui/react";
import type { Difference } from "./api";
import { Cell, Mono, Row, Rows } from "./parts";

/** Splits two texts into what both have and what only one has, by words. */
function words(before: string, after: string): [string, "same" | "gone" | "new"][] {
  const a = before.split(/(\s+)/);
  const b = after.split(/(\s+)/);
  if (a.length * b.length > 250_000) return [[before, "gone"], [after, "new"]];
  const longest: number[][] = Array.from({ length: a.length + 1 }, () => Array.from({ length: b.length + 1 }, () => 0));
  for (let i = a.length - 1; i >= 0; i--) for (let j = b.length - 1; j >= 0; j--) longest[i]![j] = a[i] === b[j] ? longest[i + 1]![j + 1]! + 1 : Math.max(longest[i + 1]![j]!, longest[i]![j + 1]!);
  const out: [string, "same" | "gone" | "new"][] = [];
  const add = (text: string, how: "same" | "gone" | "new") => {
    const last = out[out.length - 1];
    if (last && last[1] === how) last[0] += text;
    else out.push([text, how]);
  };
  let i = 0;
  let j = 0;
  while (i < a.length || j < b.length) {
    if (i < a.length && j < b.length && a[i] === b[j]) {
      add(a[i++]!, "same");
      j++;
    } else if (j >= b.length || (i < a.length && longest[i + 1]![j]! >= longest[i]![j + 1]!)) add(a[i++]!, "gone");
    else add(b[j++]!, "new");
  }
  return out;
}

function text(v: unknown): string {
  if (v === null || v === undefined) return "";
  return typeof v === "string" ? v : JSON.stringify(v, null, 1);
}

function Side({ parts, side }: { parts: [string, "same" | "gone" | "new"][]; side: "gone" | "new" }) {
  const shown = parts.filter(([, how]) => how === "same" || how === side);
  if (shown.every(([t]) => t === "")) return <Text color="faint">no value</Text>;
  return (
    <Box whiteSpace="pre-wrap" wordBreak="break-word">
      {shown.map(([t, how], i) =>
        how === "same" ? (
          <span key={i}>{t}</span>
        ) : (
          <Box as={side === "gone" ? "del" : "ins"} key={i} color={side === "gone" ? "failure" : "good"} textDecoration={side === "gone" ? "line-through" : "underline"}>
            {t}
          </Box>
        ),
      )}
    </Box>
  );
}

/** Two states of an entry, field by field, with what differs marked. */
export function Differences({ all, before, after }: { all: Difference[]; before: string; after: string }) {
  if (all.length === 0) return <Text color="faint">No difference.</Text>;
  return (
    <Rows label="Differences" head={["Field", "Locale", before, after]}>
      {all.map((d) => {
        const parts = words(text(d.before), text(d.after));
        return (
          <Row key={d.field + (d.locale ?? "")} data-difference={d.field}>
            <Cell>{d.field}</Cell>
            <Cell>
              <Mono>{d.locale ?? "–"}</Mono>
            </Cell>
            <Cell>
              <Side parts={parts} side="gone" />
            </Cell>
            <Cell>
              <Side parts={parts} side="new" />
            </Cell>
          </Row>
        );
      })}
    </Rows>
  );
}
