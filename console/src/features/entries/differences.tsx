import { Box, Table, Text } from "@chakra-ui/react";
import { diffWordsWithSpace } from "diff";
import { lazy, Suspense } from "react";
import type { Difference } from "../../api";
import { Cell, Mono, Row, Rows, Skeletons } from "../../ui";

const Merge = lazy(() => import("../../code/merge"));

type How = "same" | "gone" | "new";

/** Splits two texts into what both have and what only one has, by words. */
const words = (before: string, after: string): [string, How][] => diffWordsWithSpace(before, after).map((p) => [p.value, p.added ? "new" : p.removed ? "gone" : "same"]);

// Longer texts are shown beside each other with what is alike folded away.
const long = 300;

function text(v: unknown): string {
  if (v === null || v === undefined) return "";
  return typeof v === "string" ? v : JSON.stringify(v, null, 1);
}

function Side({ parts, side }: { parts: [string, How][]; side: "gone" | "new" }) {
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
        const [was, is] = [text(d.before), text(d.after)];
        if (was.length + is.length > long)
          return (
            <Row key={d.field + (d.locale ?? "")} data-difference={d.field}>
              <Cell head>{d.field}</Cell>
              <Cell>
                <Mono>{d.locale ?? "–"}</Mono>
              </Cell>
              <Table.Cell colSpan={2} borderColor="line">
                <Suspense fallback={<Skeletons />}>
                  <Merge before={was} after={is} names={[`${d.field}, ${before}`, `${d.field}, ${after}`]} />
                </Suspense>
              </Table.Cell>
            </Row>
          );
        const parts = words(was, is);
        return (
          <Row key={d.field + (d.locale ?? "")} data-difference={d.field}>
            <Cell head>{d.field}</Cell>
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
