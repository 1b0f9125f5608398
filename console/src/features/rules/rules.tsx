import { Box, Flex, Text } from "@chakra-ui/react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Link, useSearchParams } from "react-router";
import { call, key, refreshAll, type RuleState, type Vocabulary } from "../../api";
import { useWho } from "../../lib/who";
import { Act, Cell, Empty, Failure, Loaded, Main, Page, Row, Rows, SameByCommand, Section, Tick, When } from "../../ui";
import { RunLog } from "./runs";
import { sentence } from "./words";

/** How a rule stands, as a sign and a word. */
function standing(r: RuleState): [string, string] {
  if (r.off) return ["– off", "faint"];
  if (r.broken) return ["✕ broken", "failure"];
  if (r.lastRun?.state === "failed") return ["✕ failed last", "failure"];
  if (r.warnings.length) return ["▲ see below", "warning"];
  return ["● in force", "good"];
}

function OneRule({ rule, service }: { rule: RuleState; service: string[] }) {
  const who = useWho();
  const queries = useQueryClient();
  const turn = useMutation({
    mutationFn: async (on: boolean) => {
      const { name, version, by: _by, changed: _c, broken: _b, lastRun: _l, fired: _f, next: _n, warnings: _w, ...spec } = rule;
      return call(`/rules/${encodeURIComponent(name ?? "")}`, { method: "PUT", headers: { "If-Match": `"${version}"` }, body: { ...spec, off: !on } });
    },
    onSettled: () => refreshAll(queries),
  });
  const [word, color] = standing(rule);
  return (
    <Row data-rule={rule.name}>
      <Cell>
        <Link to={"/rules/" + encodeURIComponent(rule.name ?? "")}>{rule.name}</Link>
        <Text color="faint" fontSize="12.5px">
          {sentence(rule, service)}
        </Text>
        <Failure error={turn.error} />
      </Cell>
      <Cell>
        <Text as="span" color={color} whiteSpace="nowrap">
          {word}
        </Text>
      </Cell>
      <Cell right>{rule.fired}</Cell>
      <Cell>{rule.lastRun ? <When at={rule.lastRun.at} /> : "–"}</Cell>
      <Cell>{rule.next ? <When at={rule.next} /> : "–"}</Cell>
      <Cell>{who.may.administer && <Tick checked={!rule.off} onChange={(yes) => turn.mutate(yes)} name={`${rule.name} is in force`} />}</Cell>
    </Row>
  );
}

/** What is done on events and at times, and what came of it. */
export function RulesPage() {
  const who = useWho();
  const [params, setParams] = useSearchParams();
  const rules = useQuery({ queryKey: key("rules"), queryFn: ({ signal }) => call<{ items: RuleState[] }>("/rules", { signal }) });
  const words = useQuery({ queryKey: key("vocabulary"), queryFn: ({ signal }) => call<Vocabulary>("/vocabulary", { signal }) });
  const put = (name: string, value: string) => {
    const next = new URLSearchParams(params);
    if (value) next.set(name, value);
    else next.delete(name);
    setParams(next, { replace: true });
  };
  return (
    <Page
      title="Rules"
      says="What is done when something happens"
      actions={
        who.may.administer && (
          <Main asChild>
            <Link to="/rules/+new">Make a rule</Link>
          </Main>
        )
      }
    >
      <Loaded query={rules}>
        {({ items }) =>
          items.length === 0 ? (
            <Empty>There is no rule yet. Make one, to have a site rebuilt when something is published, or somebody told.</Empty>
          ) : (
            <>
              <Rows label="Rules" head={["Rule", "State", "Fired", "Last", "Next", "On"]} numbers={["Fired"]}>
                {items.map((r) => (
                  <OneRule key={r.name} rule={r} service={words.data?.serviceEvents ?? []} />
                ))}
              </Rows>
              <Box mt="2" mb="6">
                {items.flatMap((r) => [...(r.broken ? [r.broken] : []), ...r.warnings]).map((w) => (
                  <Text key={w} color="warning" fontSize="13px">
                    ▲ {w}
                  </Text>
                ))}
              </Box>
            </>
          )
        }
      </Loaded>
      <Section
        title="Runs"
        actions={
          <Flex gap="2">
            {["", "fired", "not-fired", "failed"].map((o) => (
              <Act key={o} aria-pressed={(params.get("outcome") ?? "") === o} variant={(params.get("outcome") ?? "") === o ? "solid" : "outline"} bg={(params.get("outcome") ?? "") === o ? "accent" : "sheet"} color={(params.get("outcome") ?? "") === o ? "sheet" : "ink"} onClick={() => put("outcome", o)}>
                {{ "": "all", fired: "fired", "not-fired": "did not fire", failed: "failed" }[o]}
              </Act>
            ))}
          </Flex>
        }
      >
        <RunLog rule={params.get("rule") ?? ""} outcome={params.get("outcome") ?? ""} />
      </Section>
      <SameByCommand command="ubiquon rule list" />
    </Page>
  );
}
