import { Box, Text } from "@chakra-ui/react";
import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { refreshAll, stream, type Comparison } from "../../api";

/** Long work on an origin: how far it is, and what it comes to. */
export function useWork<T>(path: string) {
  const [seen, setSeen] = useState("");
  const queries = useQueryClient();
  const work = useMutation({
    mutationFn: async (body: unknown) => {
      let done: T | undefined;
      await stream<{ type?: string; seen?: number; done?: T }>(path, body, (line) => {
        if (line.seen) setSeen(`read ${line.seen} of ${line.type}`);
        if (line.done) done = line.done;
      });
      return done;
    },
    onSettled: () => {
      setSeen("");
      void refreshAll(queries);
    },
  });
  return { ...work, seen };
}

/** In what an origin and what is here differ. */
export function Differences({ of }: { of: Comparison }) {
  const lines = [
    ...of.different.map((d) => `≠ ${d.type} ${d.key} (${d.title}): ${[d.fields.join(", "), d.state].filter(Boolean).join("; ")}`),
    ...of.missing.map((m) => "+ not here: " + m),
    ...of.extra.map((e) => "− not there: " + e),
    ...of.notTaken.map((n) => `✕ ${n.type ?? ""} ${n.key}: ${n.reasons.join("; ")}`),
  ];
  return (
    <Box role="status" my="2" data-comparison>
      <Text>
        {of.seen} items: {of.same} are the same, {of.differentAll ?? 0} differ, {of.missingAll ?? 0} are not here, {of.notTakenAll ?? 0} cannot be taken; {of.extraAll ?? 0} entries are not there.
      </Text>
      <Lines of={lines} />
    </Box>
  );
}

/** Lines of a report. */
export function Lines({ of }: { of: string[] }) {
  return of.map((line) => (
    <Text key={line} fontSize="13px">
      {line}
    </Text>
  ));
}
