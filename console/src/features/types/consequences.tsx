import { Box, Flex, Text } from "@chakra-ui/react";
import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect, useMemo, useState } from "react";
import { call, key, refreshAll, stream, type Model, type Plan } from "../../api";
import { Act, Cell, Failure, Main, Mono, Row, Rows, Tick, toast } from "../../ui";
import { merge } from "./merge";
import { useModelDraft, type ModelDraft } from "./model-draft";
import { toFile } from "./model-file";

const effects = {
  safe: { sign: "●", colour: "good" },
  "breaks reads": { sign: "◑", colour: "warning" },
  "needs a default": { sign: "◐", colour: "warning" },
  "loses data": { sign: "✕", colour: "failure" },
} as const;

/** What the changes would do, and the button that does it. What somebody else has applied meanwhile is brought together with them. */
export function Consequences({ of: { base, model: draft }, present }: { of: ModelDraft; present: Model }) {
  const queries = useQueryClient();
  const { drop, rebase } = useModelDraft();
  const file = toFile(draft);
  const [allowLoss, setAllowLoss] = useState(false);
  const [progress, setProgress] = useState("");
  const overtaken = useMemo(() => JSON.stringify(base) !== JSON.stringify(present), [base, present]);
  const merged = useMemo(() => (overtaken ? merge(base, draft, present) : null), [overtaken, base, draft, present]);
  useEffect(() => {
    if (!merged || merged.conflicts.length > 0) return;
    rebase(present, merged.model);
    toast.news("Somebody else has applied another model; your changes are on top of it now.");
    // rebase is another function each time, and does the same.
    // eslint-disable-next-line react-hooks/exhaustive-deps
  }, [merged, present]);
  const plan = useQuery({
    queryKey: key("plan", file, present),
    queryFn: ({ signal }) => call<Plan>("/model/plan", { method: "POST", body: { files: { "model.yaml": file } }, signal }),
    placeholderData: keepPreviousData,
    retry: false,
  });
  const apply = useMutation({
    mutationFn: () =>
      stream<{ done: number; total: number }>("/model/apply", { files: { "model.yaml": file }, allowLoss, ifVersion: plan.data?.version }, (p) => p.total && setProgress(`Converted ${p.done} of ${p.total} entries`)),
    onSuccess: async () => {
      drop();
      await refreshAll(queries);
      toast.done("The model is applied.");
    },
  });
  const p = plan.error ? undefined : plan.data;
  return (
    <Box borderWidth="1px" borderColor="accent" bg="sheet" p="4" mb="5" data-plan={p ? String(p.consequences.length) : ""}>
      <Flex align="center" gap="3" mb="2" wrap="wrap">
        <Text fontWeight="600" flex="1">
          {p?.consequences.length === 0 ? "Nothing is changed yet." : "Not applied yet. This is what it would do:"}
        </Text>
        <Act onClick={() => drop()}>Discard changes</Act>
        <Main loading={apply.isPending} disabled={!p || p.consequences.length === 0 || p.conflicts.length > 0 || (p.loses && !allowLoss) || overtaken || plan.isPlaceholderData} onClick={() => apply.mutate()}>
          Apply
        </Main>
      </Flex>
      <Failure error={plan.error ?? apply.error} />
      {overtaken && merged && (
        <Box color="warning" role="alert" mb="2">
          <Text>◐ Somebody else has applied another model since you began. Both have changed: {merged.conflicts.join(", ")}. The rest goes together.</Text>
          <Flex gap="2" mt="1">
            <Act onClick={() => rebase(present, merged.model)}>Keep mine for these</Act>
            <Act onClick={() => rebase(present, merge(base, present, draft).model)}>Take theirs for these</Act>
          </Flex>
        </Box>
      )}
      {p && p.consequences.length > 0 && (
        <Rows label="Consequences" head={["Effect", "Where", "What", "Entries", ""]} numbers={["Entries"]}>
          {p.consequences.map((c, i) => (
            <Row key={i} data-effect={c.severity}>
              <Cell>
                <Box as="span" color={effects[c.severity].colour} whiteSpace="nowrap">
                  {effects[c.severity].sign} {c.severity}
                </Box>
              </Cell>
              <Cell>
                <Mono>{c.where}</Mono>
              </Cell>
              <Cell>{c.what}</Cell>
              <Cell right>{c.entries || "–"}</Cell>
              <Cell>
                {c.text}
                {c.readers.length > 0 && <Text color="warning">read by {c.readers.join(", ")}</Text>}
              </Cell>
            </Row>
          ))}
        </Rows>
      )}
      {p?.conflicts.map((c) => (
        <Text key={c} color="failure" mt="2" whiteSpace="pre-wrap">
          ✕ In the way: {c}
        </Text>
      ))}
      {p?.loses && (
        <Box mt="3">
          <Tick checked={allowLoss} onChange={setAllowLoss}>
            Apply it although content is lost
          </Tick>
        </Box>
      )}
      {progress && apply.isPending && (
        <Text mt="2" role="status">
          {progress}
        </Text>
      )}
    </Box>
  );
}
