import { Text } from "@chakra-ui/react";
import type { Build } from "../../api";
import { Cell, Mono, Row, Rows, State, When } from "../../ui";
import { between } from "../../ui/trace";

function why(b: Build): string {
  const causes = b.causes ?? [];
  const first = causes[0];
  if (!first) return "–";
  const text = first.by ? "asked for by " + first.by : `${first.what ?? "changed"} ${first.type ?? ""}`;
  const all = Object.values(b.counts ?? {}).reduce((sum, n) => sum + n, 0) || causes.length;
  return all > 1 ? `${text}, and ${all - 1} more` : text;
}

/** Builds as a table; of one site's builds the site is left out. */
export function BuildRows({ label, builds, ofOneSite = false }: { label: string; builds: Build[]; ofOneSite?: boolean }) {
  const head = [...(ofOneSite ? [] : ["Site"]), "Build", "State", "Why", "Pages", "Content at", "Asked for", "Waited", "Took", "Error"];
  return (
    <Rows label={label} head={head} numbers={["Pages", "Waited", "Took"]}>
      {builds.map((b) => (
        <Row key={b.id} data-build={String(b.number)}>
          {!ofOneSite && <Cell>{b.site}</Cell>}
          <Cell>{b.number}</Cell>
          <Cell>
            <State of={b.state} />
          </Cell>
          <Cell>{why(b)}</Cell>
          <Cell right>{b.pages.length === 0 ? "–" : b.pages[0] === "*" ? "all" : b.pages.length}</Cell>
          <Cell>
            <Mono>{b.sequence}</Mono>
          </Cell>
          <Cell>
            <When at={b.firstRequest} />
          </Cell>
          <Cell right>{between(b.firstRequest, b.called)}</Cell>
          <Cell right>{between(b.called, b.finished)}</Cell>
          <Cell>
            {b.error}
            {b.state === "skipped" && <Text as="span" color="faint">no page shows it</Text>}
            {b.notBefore && (
              <Text as="span" color="faint">
                {b.error ? "; " : ""}
                {b.failures ? `${b.failures} failed in a row; ` : ""}next try <When at={b.notBefore} />
              </Text>
            )}
          </Cell>
        </Row>
      ))}
    </Rows>
  );
}
