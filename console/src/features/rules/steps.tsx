import { Box, Flex, Input, Text, Textarea } from "@chakra-ui/react";
import type { ReactNode } from "react";
import type { Step } from "../../api";
import { Act, inputStyle, Pick, Tick } from "../../ui";
import { stepWords } from "./words";

/** What a new step of a kind begins with. */
export function newStep(kind: string, sites: { builds: string[]; refreshes: string[] }): Step {
  const made: Record<string, unknown> = {
    rebuild: { site: sites.builds[0] ?? "" },
    refresh: { site: sites.refreshes[0] ?? "" },
    purge: {},
    warm: { hottest: 100 },
    mail: { to: ["role:approver"], subject: "{entry.title}", text: "{entry.link}" },
    call: { address: "https://" },
    publish: "this",
    unpublish: "this",
    schedule: { of: "this", action: "unpublish", in: "24h" },
    wait: { for: "10m" },
  };
  return { [kind]: made[kind] } as Step;
}

const kindOf = (s: Step) => Object.keys(s).find((k) => k !== "else") ?? "";

function Line({ label, children, wrong }: { label: string; children: ReactNode; wrong?: string[] }) {
  return (
    <Box mb="2">
      <Flex as="label" gap="3" align="baseline">
        <Text w="84px" flexShrink="0" color="faint" fontSize="13px">
          {label}
        </Text>
        <Box flex="1">{children}</Box>
      </Flex>
      {wrong?.map((w) => (
        <Text key={w} ml="96px" color="failure" fontSize="13px" role="alert">
          ✕ {w}
        </Text>
      ))}
    </Box>
  );
}

/** A step as it is filled in: its own fields, and what happens if it fails. */
export function StepForm({ step, change, remove, move, sites, wrong, index, last }: { step: Step; change: (s: Step) => void; remove: () => void; move: (by: number) => void; sites: { builds: string[]; refreshes: string[] }; wrong: (path: string) => string[]; index: number; last: boolean }) {
  const kind = kindOf(step);
  const value = (step as Record<string, unknown>)[kind];
  const set = (next: unknown) => change({ ...step, [kind]: next } as Step);
  const part = (name: string, next: unknown) => set({ ...(value as object), [name]: next });
  const get = (name: string) => (value as Record<string, unknown> | undefined)?.[name];
  const text = (name: string, label: string, placeholder = "") => (
    <Line label={label} wrong={wrong(`${kind}.${name}`)}>
      <Input {...inputStyle} aria-label={label} placeholder={placeholder} value={String(get(name) ?? "")} onChange={(e) => part(name, e.target.value)} />
    </Line>
  );
  const words = (name: string, label: string, placeholder = "") => (
    <Line label={label} wrong={wrong(`${kind}.${name}`)}>
      <Input {...inputStyle} aria-label={label} placeholder={placeholder} defaultValue={((get(name) as string[]) ?? []).join(", ")} key={((get(name) as string[]) ?? []).length + name} onBlur={(e) => part(name, e.target.value.split(",").map((w) => w.trim()).filter(Boolean))} />
    </Line>
  );
  const long = (name: string, label: string) => (
    <Line label={label} wrong={wrong(`${kind}.${name}`)}>
      <Textarea {...inputStyle} aria-label={label} rows={4} fontFamily={name === "body" ? "mono" : undefined} value={String(get(name) ?? "")} onChange={(e) => part(name, e.target.value)} />
    </Line>
  );
  const site = (names: string[]) => (
    <Line label="Site" wrong={wrong(`${kind}.site`)}>
      <Pick label="Site" value={String(get("site") ?? "")} onChange={(v) => part("site", v)}>
        {!names.includes(String(get("site") ?? "")) && <option value={String(get("site") ?? "")}>{String(get("site") || "choose a site")}</option>}
        {names.map((n) => (
          <option key={n}>{n}</option>
        ))}
      </Pick>
    </Line>
  );
  const which = (w: unknown, put: (next: unknown) => void, path: string) => (
    <Line label="Entries" wrong={wrong(path)}>
      <Flex gap="2">
        <Pick label="Which entries" value={w === "this" ? "this" : "filter"} onChange={(v) => put(v === "this" ? "this" : { filter: "type = ''" })}>
          <option value="this">the entry itself</option>
          <option value="filter">all that meet</option>
        </Pick>
        {w !== "this" && <Input {...inputStyle} fontFamily="mono" fontSize="12.5px" aria-label="Filter of the entries" value={String((w as { filter?: string })?.filter ?? "")} onChange={(e) => put({ filter: e.target.value })} />}
      </Flex>
    </Line>
  );
  return (
    <Box borderLeftWidth="3px" borderColor="accent" pl="4" py="2" mb="3" data-step={kind}>
      <Flex gap="2" mb="2" align="center">
        <Text fontWeight="600" flex="1">
          {index + 1}. {stepWords(step)}
        </Text>
        <Act aria-label={`Move step ${index + 1} up`} disabled={index === 0} onClick={() => move(-1)}>
          ↑
        </Act>
        <Act aria-label={`Move step ${index + 1} down`} disabled={last} onClick={() => move(1)}>
          ↓
        </Act>
        <Act aria-label={`Remove step ${index + 1}`} onClick={remove}>
          Remove
        </Act>
      </Flex>
      {wrong("").map((w) => (
        <Text key={w} color="failure" fontSize="13px" role="alert">
          ✕ {w}
        </Text>
      ))}
      {kind === "rebuild" && (
        <>
          {site(sites.builds)}
          <Tick checked={!!get("now")} onChange={(yes) => part("now", yes || undefined)}>
            do not wait for more changes
          </Tick>
        </>
      )}
      {kind === "refresh" && (
        <>
          {site(sites.refreshes)}
          {words("pages", "Pages", "none: those of the entry; * for all")}
        </>
      )}
      {kind === "purge" && (
        <>
          {words("types", "Types", "none: everything")}
          {text("filter", "Filter", "type = 'notice' AND …")}
        </>
      )}
      {kind === "warm" && words("requests", "Requests", "/notices?limit=3")}
      {kind === "mail" && (
        <>
          {words("to", "To", "duty@skerry.example, role:approver, target:duty")}
          {text("subject", "Subject")}
          {long("text", "Text")}
        </>
      )}
      {kind === "call" && (
        <>
          {text("address", "Address")}
          {text("secret", "Secret", "secret:NAME")}
          {long("body", "Body")}
        </>
      )}
      {(kind === "publish" || kind === "unpublish") && which(value, set, kind)}
      {kind === "schedule" && (
        <>
          {which(get("of"), (w) => part("of", w), "schedule.of")}
          <Line label="Do">
            <Pick label="What is done" value={String(get("action"))} onChange={(v) => part("action", v)}>
              <option>publish</option>
              <option>unpublish</option>
            </Pick>
          </Line>
          {text("in", "After", "24h")}
        </>
      )}
      {kind === "wait" && text("for", "For", "10m")}
      {!last && kind !== "wait" && (
        <Tick checked={step.else === "continue"} onChange={(yes) => change({ ...step, else: yes ? "continue" : undefined })}>
          go on with the next step if this one fails
        </Tick>
      )}
    </Box>
  );
}
