import { Box, Button, Flex, Text, type BoxProps } from "@chakra-ui/react";
import { useQueryClient } from "@tanstack/react-query";
import { Check, Copy } from "lucide-react";
import { useState } from "react";
import { Link } from "react-router";
import { key, type Entry, type Model } from "../api";

/** Anything that a machine reads. */
export function Mono({ children, ...rest }: BoxProps) {
  return (
    <Box as="span" fontFamily="mono" fontSize="12.5px" {...rest}>
      {children}
    </Box>
  );
}

export function CopyButton({ text, label }: { text: string; label: string }) {
  const [done, setDone] = useState(false);
  return (
    <Button
      size="2xs"
      minH="24px"
      variant="plain"
      color="faint"
      aria-label={"Copy " + label}
      title={"Copy " + label}
      onClick={async () => {
        await navigator.clipboard.writeText(text);
        setDone(true);
        setTimeout(() => setDone(false), 1200);
      }}
    >
      {done ? <Check size={13} /> : <Copy size={13} />}
    </Button>
  );
}

/** The command or request that does what the page shows. */
export function SameByCommand({ command }: { command: string }) {
  return (
    <Flex align="center" mt="6" gap="1" color="faint">
      <Text fontSize="12px">The same on the command line:</Text>
      <Mono color="ink" data-command>
        {command}
      </Mono>
      <CopyButton text={command} label="the command" />
    </Flex>
  );
}

const marks: Record<string, { sign: string; colour: string }> = {
  published: { sign: "●", colour: "good" },
  finished: { sign: "●", colour: "good" },
  done: { sign: "●", colour: "good" },
  revised: { sign: "◐", colour: "warning" },
  "in review": { sign: "◇", colour: "accent" },
  scheduled: { sign: "◷", colour: "accent" },
  pending: { sign: "◷", colour: "accent" },
  retired: { sign: "–", colour: "faint" },
  cancelled: { sign: "–", colour: "faint" },
  skipped: { sign: "–", colour: "faint" },
  submitted: { sign: "◇", colour: "accent" },
  approved: { sign: "◆", colour: "good" },
  returned: { sign: "↩", colour: "warning" },
  waiting: { sign: "◷", colour: "warning" },
  running: { sign: "▶", colour: "accent" },
  draft: { sign: "○", colour: "faint" },
  late: { sign: "◷", colour: "failure" },
  failed: { sign: "✕", colour: "failure" },
  refused: { sign: "⊘", colour: "failure" },
  unknown: { sign: "?", colour: "warning" },
};

/** A state, by word, shape and colour. */
export function State({ of }: { of: string }) {
  const m = marks[of] ?? { sign: "·", colour: "faint" };
  return (
    <span style={{ whiteSpace: "nowrap", color: `var(--chakra-colors-${m.colour})` }}>
      <span style={{ display: "inline-block", width: "1.2em" }} aria-hidden>
        {m.sign}
      </span>
      {of}
    </span>
  );
}

// Making a format takes longer than formatting: each is made once.
const time = new Intl.DateTimeFormat("en-GB", { timeStyle: "medium" });
const day = new Intl.DateTimeFormat("sv-SE", { dateStyle: "short" });
const whole = new Intl.DateTimeFormat(undefined, { dateStyle: "medium", timeStyle: "medium" });

export function When({ at }: { at: string | null | undefined }) {
  if (!at) return <span>–</span>;
  const d = new Date(at);
  const ago = Date.now() - d.getTime();
  // What is still to come is told by the hour only if it is today.
  const near = ago >= 0 ? ago < 20 * 3600_000 : d.toDateString() === new Date().toDateString();
  return (
    <time dateTime={at} title={whole.format(d)}>
      {near ? time.format(d) : day.format(d) + " " + time.format(d).slice(0, 5)}
    </time>
  );
}

/** In which locales an entry can be read, and how much of it is translated. */
export function LocaleMarks({ of, live }: { of: Entry["locales"]; live?: string[] | null }) {
  // Not an observer of the model: there is one of these for each row of a list.
  const order = useQueryClient().getQueryData<Model>(key("model"))?.locales.map((l) => l.tag) ?? [];
  const all = Object.entries(of).sort(([a], [b]) => order.indexOf(a) - order.indexOf(b));
  return (
    <span style={{ display: "inline-flex", gap: "10px", fontFamily: "var(--chakra-fonts-mono)", fontSize: "12.5px" }}>
      {all.map(([tag, how]) => (
        <span key={tag} title={`${tag}: ${how}${live ? (live.includes(tag) ? ", published" : ", not published in it") : ""}`} style={{ color: `var(--chakra-colors-${how === "translated" ? "ink" : how === "partly" ? "warning" : "faint"})` }}>
          {how === "partly" ? "◐" : how === "translated" ? "●" : "○"}
          {tag}
        </span>
      ))}
    </span>
  );
}

export function EntryLink({ id, title }: { id?: string; title?: string }) {
  if (!id) return <span>–</span>;
  return <Link to={"/entries/" + id}>{title || id}</Link>;
}
