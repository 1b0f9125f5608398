import { Text } from "@chakra-ui/react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { call, key, refreshAll, type NotificationSettings } from "../../api";
import { Cell, Failure, Loaded, Pick, Row, Rows, Section } from "../../ui";

const matters: [keyof NotificationSettings, string][] = [
  ["review", "something waits for my approval"],
  ["decision", "what I submitted is approved or returned"],
  ["overdue", "something has waited for three days"],
  ["trouble", "builds fail, origins fall silent and the like (admins)"],
];

/** How the own account is told of what by mail. */
export function Told() {
  const queries = useQueryClient();
  const told = useQuery({ queryKey: key("told"), queryFn: ({ signal }) => call<NotificationSettings>("/session/notifications", { signal }) });
  const change = useMutation({ mutationFn: (next: NotificationSettings) => call("/session/notifications", { method: "PUT", body: next }), onSettled: () => refreshAll(queries) });
  return (
    <Section title="Mail">
      <Failure error={change.error} />
      <Loaded query={told}>
        {(now) => (
          <Rows label="Mail" head={["When", "I am told"]}>
            {matters.map(([name, words]) => (
              <Row key={name} data-matter={name}>
                <Cell>{words}</Cell>
                <Cell>
                  <Pick label={words} value={now[name] ?? "now"} onChange={(v) => change.mutate({ ...now, [name]: v as "now" })}>
                    <option value="now">at once</option>
                    <option value="daily">once a day</option>
                    <option value="never">never</option>
                  </Pick>
                </Cell>
              </Row>
            ))}
          </Rows>
        )}
      </Loaded>
      <Text color="faint" fontSize="13px" mt="1">
        The daily mail comes in the morning, with everything of the day before.
      </Text>
    </Section>
  );
}
