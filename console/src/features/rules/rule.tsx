import { Box, Flex, Input, Text } from "@chakra-ui/react";
import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { lazy, Suspense, useEffect, useMemo, useState } from "react";
import { useNavigate, useParams } from "react-router";
import { call, key, Problem, refreshAll, type Mistake, type Rule, type SavedSetting, type Site, type Trial, type Vocabulary } from "../../api";
import { useRested } from "../../lib/rested";
import { useModel } from "../../lib/use-model";
import { Unsaved } from "../../lib/unsaved";
import { useWho } from "../../lib/who";
import { fromYaml, toYaml } from "../../lib/yaml";
import { Act, Failure, inputStyle, Loaded, Main, Page, Pick, SameByCommand, Section, Tick, Window } from "../../ui";
import { RunLog } from "./runs";
import { newStep, StepForm } from "./steps";
import { eventWords, sentence, withEvents } from "./words";

const SourceEditor = lazy(() => import("../../code/source"));
const FilterEditor = lazy(() => import("../../code/filter"));

const fresh: Rule = { on: ["published"], do: [] };

/** The page of one rule, or of a new one. */
export function RulePage() {
  const { name = "" } = useParams();
  const making = name === "+new";
  const saved = useQuery({ queryKey: key("rule", name), enabled: !making, queryFn: ({ signal }) => call<SavedSetting>("/rules/" + encodeURIComponent(name), { signal }) });
  if (making) return <RuleForm name="" version={0} initial={fresh} />;
  return saved.data ? <RuleForm key={saved.data.version} name={name} version={saved.data.version} initial={saved.data.spec as unknown as Rule} /> : <Page title={name}><Loaded query={saved}>{() => null}</Loaded></Page>;
}

function RuleForm({ name, version, initial }: { name: string; version: number; initial: Rule }) {
  const who = useWho();
  const queries = useQueryClient();
  const navigate = useNavigate();
  const model = useModel({ staleTime: 60_000 });
  const words = useQuery({ queryKey: key("vocabulary"), queryFn: ({ signal }) => call<Vocabulary>("/vocabulary", { signal }) });
  const sites = useQuery({ queryKey: key("sites"), queryFn: ({ signal }) => call<{ items: Site[] }>("/sites", { signal }) });
  const [called, setCalled] = useState(name);
  const [rule, setRule] = useState<Rule>(initial);
  const [text, setText] = useState(() => toYaml(initial));
  const [unread, setUnread] = useState("");
  const [mistakes, setMistakes] = useState<Mistake[]>([]);
  const [warnings, setWarnings] = useState<string[]>([]);
  const [trial, setTrial] = useState<Trial>();
  const start = useMemo(() => toYaml(initial), [initial]);
  const dirty = text !== start || called !== name;
  const put = (next: Rule) => {
    setRule(next);
    setText(toYaml(next));
    setUnread("");
  };
  const read = (next: string) => {
    setText(next);
    try {
      setRule((fromYaml(next) ?? {}) as Rule);
      setUnread("");
    } catch (error) {
      setUnread(error instanceof Error ? error.message.split("\n")[0]! : String(error));
    }
  };
  const path = "/rules/" + encodeURIComponent(called.trim() || "new");
  // What would be wrong is said while it is written, and changes nothing.
  const still = useRested(JSON.stringify(rule), 400);
  useEffect(() => {
    if (!who.may.administer) return;
    const out = new AbortController();
    call<SavedSetting>(path + "?check=true", { method: "PUT", body: JSON.parse(still), signal: out.signal }).then(
      (s) => {
        setMistakes((s.problems ?? []) as Mistake[]);
        setWarnings(s.warnings);
      },
      (error) => error instanceof Problem && error.status > 0 && setMistakes((error.body.settings ?? [{ text: error.message }]) as Mistake[]),
    );
    return () => out.abort();
  }, [still, path, who.may.administer]);
  const save = useMutation({
    mutationFn: () => call<SavedSetting>(path, { method: "PUT", headers: version ? { "If-Match": `"${version}"` } : { "If-None-Match": "*" }, body: rule }),
    onSuccess: async () => {
      await refreshAll(queries);
      navigate("/rules/" + encodeURIComponent(called.trim()), { replace: true });
    },
  });
  const remove = useMutation({ mutationFn: () => call(path, { method: "DELETE" }), onSuccess: async () => {
      await refreshAll(queries);
      navigate("/rules", { replace: true });
    },
  });
  const attempt = useMutation({ mutationFn: () => call<Trial>(path + "/try", { method: "POST", body: { rule } }), onSuccess: setTrial });
  const [removing, setRemoving] = useState(false);
  const [asking, setAsking] = useState(false);
  const wrong = (at: string) => mistakes.filter((m) => m.path === at || (m.path ?? "").startsWith(at + "[")).map((m) => m.text);
  const able = { builds: (sites.data?.items ?? []).filter((s) => s.build).map((s) => s.name), refreshes: (sites.data?.items ?? []).filter((s) => s.refresh).map((s) => s.name) };
  const events = withEvents(model.data, words.data, rule.types ?? []);
  const on = rule.on ?? [];
  const timed = rule.at !== undefined && rule.at !== "";
  const toggle = (list: string[] | undefined, one: string, yes: boolean) => (yes ? [...(list ?? []), one] : (list ?? []).filter((x) => x !== one));
  const boxes = (all: string[], chosen: string[], change: (next: string[]) => void, label: (one: string) => string = (one) => one) => (
    <Flex wrap="wrap" columnGap="4" rowGap="1">
      {all.map((one) => (
        <Tick key={one} checked={chosen.includes(one)} onChange={(yes) => change(toggle(chosen, one, yes))}>
          {label(one)}
        </Tick>
      ))}
    </Flex>
  );
  return (
    <Page title={name || "A new rule"} says={sentence(rule, words.data?.serviceEvents)} actions={who.may.administer && <Main disabled={!dirty || !called.trim() || !!unread || mistakes.length > 0} loading={save.isPending} onClick={() => save.mutate()}>{version ? "Save" : "Make the rule"}</Main>}>
      <Unsaved unsaved={dirty && !save.isPending && !save.isSuccess && !remove.isPending} what="this rule" drop={() => {}} />
      <Failure error={save.error ?? remove.error} />
      {removing && (
        <Window title={`Remove “${name}”?`} open close={() => setRemoving(false)} actions={<Main bg="failure" loading={remove.isPending} onClick={() => remove.mutate()}>Remove the rule</Main>}>
          <Text>Nothing will be done on its events any more. Its versions are kept, and its runs for 30 days.</Text>
        </Window>
      )}
      <Flex gap="6" align="start" direction={{ base: "column", xl: "row" }}>
        <Box flex="3" minW="0" w="full">
          {!version && (
            <Section title="Name">
              <Input {...inputStyle} aria-label="Name" value={called} onChange={(e) => setCalled(e.target.value)} placeholder="Show cancelled crossings at once" />
              {wrong("name").map((w) => (
                <Wrong key={w}>{w}</Wrong>
              ))}
            </Section>
          )}
          <Section title="When">
            <Flex gap="2" mb="2">
              <Pick label="What sets it off" value={timed ? "time" : "event"} onChange={(v) => put(v === "time" ? { ...rule, on: undefined, types: undefined, at: "0 6 * * *" } : { ...rule, at: undefined, zone: undefined, on: ["published"] })}>
                <option value="event">something happens</option>
                <option value="time">at certain times</option>
              </Pick>
            </Flex>
            {timed ? (
              <Flex gap="2">
                <Input {...inputStyle} w="180px" fontFamily="mono" aria-label="Cron line" value={rule.at} onChange={(e) => put({ ...rule, at: e.target.value })} />
                <Input {...inputStyle} w="200px" aria-label="Time zone" placeholder="UTC" value={rule.zone ?? ""} onChange={(e) => put({ ...rule, zone: e.target.value || undefined })} />
              </Flex>
            ) : (
              <>
                <Text color="faint" fontSize="13px">
                  an entry
                </Text>
                {boxes(words.data?.contentEvents ?? [], on, (next) => put({ ...rule, on: next }), eventWords)}
                <Text color="faint" fontSize="13px" mt="2">
                  or, of the service
                </Text>
                {boxes(words.data?.serviceEvents ?? [], on, (next) => put({ ...rule, on: next }), eventWords)}
                <Text color="faint" fontSize="13px" mt="2">
                  of the types (none: all)
                </Text>
                {boxes(model.data?.types.map((t) => t.name) ?? [], rule.types ?? [], (next) => put({ ...rule, types: next.length ? next : undefined }))}
              </>
            )}
            {["on", "types", "at", "zone"].flatMap(wrong).map((w) => (
              <Wrong key={w}>{w}</Wrong>
            ))}
          </Section>
          {!timed && (
            <Section title="And">
              {/* The editor is loaded when somebody goes into the field. */}
              <Suspense fallback={<Input {...inputStyle} fontFamily="mono" fontSize="12.5px" aria-label="Condition" value={rule.when ?? ""} readOnly />}>
                {!asking ? <Input {...inputStyle} fontFamily="mono" fontSize="12.5px" aria-label="Condition" placeholder="always; or a condition, as in type = 'notice' AND entry.severity = 'cancelled'" value={rule.when ?? ""} onFocus={() => setAsking(true)} onChange={(e) => put({ ...rule, when: e.target.value || undefined })} /> : <FilterEditor label="Condition" model={events} type="event" value={rule.when ?? ""} onChange={(when) => put({ ...rule, when: when || undefined })} onRun={() => attempt.mutate()} placeholder="always; or a condition, as in type = 'notice' AND entry.severity = 'cancelled'" />}
              </Suspense>
              {wrong("when").map((w) => (
                <Wrong key={w}>{w}</Wrong>
              ))}
            </Section>
          )}
          <Section title="Then">
            {(rule.do ?? []).map((s, i) => (
              <StepForm
                key={i}
                index={i}
                last={i === (rule.do ?? []).length - 1}
                step={s}
                sites={able}
                wrong={(at) => wrong(`do[${i}]${at ? "." + at : ""}`)}
                change={(next) => put({ ...rule, do: rule.do!.map((o, j) => (j === i ? next : o)) })}
                remove={() => put({ ...rule, do: rule.do!.filter((_, j) => j !== i) })}
                move={(by) => {
                  const all = [...rule.do!];
                  [all[i], all[i + by]] = [all[i + by]!, all[i]!];
                  put({ ...rule, do: all });
                }}
              />
            ))}
            <Pick label="Add a step" value="" onChange={(kind) => kind && put({ ...rule, do: [...(rule.do ?? []), newStep(kind, able)] })}>
              <option value="">Add a step…</option>
              {words.data?.steps.map((s) => (
                <option key={s}>{s}</option>
              ))}
            </Pick>
            {wrong("do").map((w) => (
              <Wrong key={w}>{w}</Wrong>
            ))}
          </Section>
        </Box>
        <Box flex="2" minW="0" w="full">
          <Section title="The same as YAML">
            <Suspense fallback={<Box h="200px" />}>
              <SourceEditor label="The rule as YAML" kind="yaml" value={text} onChange={read} minHeight="220px" />
            </Suspense>
            {unread && <Wrong>{unread}</Wrong>}
            {mistakes.filter((m) => !m.path || m.path.startsWith("line ")).map((m) => (
              <Wrong key={m.path + m.text}>{[m.path, m.text].filter(Boolean).join(": ")}</Wrong>
            ))}
            {warnings.map((w) => (
              <Text key={w} color="warning" fontSize="13px">
                ▲ {w}
              </Text>
            ))}
          </Section>
          {version > 0 && (
            <Section title="Try it" actions={<Act loading={attempt.isPending} disabled={!!unread} onClick={() => attempt.mutate()}>Try on the last events</Act>}>
              <Failure error={attempt.error} />
              <TrialList trial={trial} />
            </Section>
          )}
        </Box>
      </Flex>
      {version > 0 && (
        <Section title="Runs" actions={who.may.administer && <Act onClick={() => setRemoving(true)}>Remove the rule…</Act>}>
          <RunLog rule={name} />
        </Section>
      )}
      <SameByCommand command={version ? `ubiquon rule show '${name}'` : "ubiquon rule create 'NAME' --file rule.yaml"} />
    </Page>
  );
}

function Wrong({ children }: { children: string }) {
  return (
    <Text color="failure" fontSize="13px" role="alert">
      ✕ {children}
    </Text>
  );
}

/** What a rule would make of the last events. */
function TrialList({ trial }: { trial?: Trial }) {
  if (!trial) return <Text color="faint">Says what the rule would make of the last events, with every step as it would be done. Nothing is done.</Text>;
  return (
    <Box>
      {trial.problems.map((p) => (
        <Wrong key={(p.path ?? "") + p.text}>{[p.path, p.text].filter(Boolean).join(": ")}</Wrong>
      ))}
      {trial.trials.map((t) => (
        <Box key={t.about.sequence ?? t.about.at} mb="2" data-trial={t.fires ? "fires" : "not"}>
          <Text fontWeight="600" color={t.fires ? "good" : "faint"}>
            {t.fires ? "●" : "–"} {t.about.event} {t.about.title && `“${t.about.title}”`}
          </Text>
          {!t.fires && <Text fontSize="13px">{t.reason}</Text>}
          {t.fires &&
            t.steps.map((s, i) => (
              <Box key={i} fontSize="13px" pl="4">
                <Text>{s.says}</Text>
                {s.text && (
                  <Text as="pre" whiteSpace="pre-wrap" color="faint" fontFamily="mono" fontSize="12px">
                    {s.text}
                  </Text>
                )}
              </Box>
            ))}
        </Box>
      ))}
    </Box>
  );
}
