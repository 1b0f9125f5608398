import { Box, Flex, Text } from "@chakra-ui/react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link } from "react-router";
import { call, key, refreshAll, type RuleRun } from "../../api";
import { useWho } from "../../lib/who";
import { Act, Cell, Empty, Failure, Loaded, Row, Rows, When } from "../../ui";

const signs: Record<string, [string, string]> = { done: ["● done", "good"], failed: ["✕ failed", "failure"], running: ["◷ running", "warning"], "not fired": ["– did not fire", "faint"] };

/** What came of the steps of a run, a line each. */
function Steps({ run }: { run: RuleRun }) {
  const queries = useQueryClient();
  const who = useWho();
  const again = useMutation({ mutationFn: () => call(`/rule-runs/${run.id}/again`, { method: "POST", body: {} }), onSettled: () => refreshAll(queries) });
  return (
    <Box>
      {run.steps.map((s) => (
        <Flex key={s.step} gap="2" align="baseline">
          <Text color={s.state === "failed" ? "failure" : s.state === "done" ? "ink" : "faint"}>
            {s.kind}: {s.error || s.result || s.state}
            {s.attempts > 1 ? ` (${s.attempts} tries)` : ""}
            {s.due && (
              <>
                , next try <When at={s.due} />
              </>
            )}
          </Text>
        </Flex>
      ))}
      {run.state === "failed" && who.may.administer && (
        <Act mt="1" loading={again.isPending} onClick={() => again.mutate()}>
          Do it again
        </Act>
      )}
      <Failure error={again.error} />
    </Box>
  );
}

/** What rules made of events, and why others did not fire. It updates by itself. */
export function RunLog({ rule, outcome = "", limit = 30 }: { rule: string; outcome?: string; limit?: number }) {
  const params = new URLSearchParams({ ...(rule && { rule }), ...(outcome && { outcome }), limit: String(limit) });
  const runs = useQuery({ queryKey: key("rule-runs", rule, outcome, limit), queryFn: ({ signal }) => call<{ items: RuleRun[] }>("/rule-runs?" + params, { signal }), placeholderData: (before) => before });
  return (
    <Loaded query={runs}>
      {({ items }) =>
        items.length === 0 ? (
          <Empty>Nothing has happened yet that {rule ? "the rule" : "a rule"} could look at.</Empty>
        ) : (
          <Rows label="Runs" head={["At", ...(rule ? [] : ["Rule"]), "Event", "Entry", "Outcome", "Why, or what was done"]}>
            {items.map((r) => (
              <Row key={r.id} data-run={r.id}>
                <Cell>
                  <When at={r.at} />
                </Cell>
                {!rule && (
                  <Cell>
                    <Link to={"/rules/" + encodeURIComponent(r.rule)}>{r.rule}</Link>
                  </Cell>
                )}
                <Cell>
                  {r.event}
                  {r.sequence > 0 && (
                    <Text as="span" color="faint">
                      {" "}
                      #{r.sequence}
                    </Text>
                  )}
                </Cell>
                <Cell>{r.entry ? <Link to={"/entries/" + r.entry}>{r.type}</Link> : "–"}</Cell>
                <Cell>
                  <Text as="span" whiteSpace="nowrap" color={signs[r.state]?.[1]}>
                    {signs[r.state]?.[0] ?? r.state}
                  </Text>
                </Cell>
                <Cell>{r.fired ? <Steps run={r} /> : r.reason}</Cell>
              </Row>
            ))}
          </Rows>
        )
      }
    </Loaded>
  );
}
