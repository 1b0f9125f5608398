import { Box, Button, Dialog, Flex, Heading, NativeSelect, Portal, Skeleton, Table, Text, type BoxProps, type ButtonProps } from "@chakra-ui/react";
import { Check, Copy } from "lucide-react";
import { useEffect, useState, type ReactNode } from "react";
import { Link } from "react-router";
import { Problem, type Entry } from "./api";
import { useModel } from "./use-model";

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
  submitted: { sign: "◇", colour: "accent" },
  approved: { sign: "◆", colour: "good" },
  returned: { sign: "↩", colour: "warning" },
  waiting: { sign: "◷", colour: "warning" },
  running: { sign: "▶", colour: "accent" },
  draft: { sign: "○", colour: "faint" },
  late: { sign: "◷", colour: "failure" },
  failed: { sign: "✕", colour: "failure" },
  refused: { sign: "⊘", colour: "failure" },
};

/** A state, by word, shape and colour. */
export function State({ of }: { of: string }) {
  const m = marks[of] ?? { sign: "·", colour: "faint" };
  return (
    <Box as="span" whiteSpace="nowrap" color={m.colour}>
      <Box as="span" display="inline-block" w="1.2em" aria-hidden>
        {m.sign}
      </Box>
      {of}
    </Box>
  );
}

export function When({ at }: { at: string | null | undefined }) {
  if (!at) return <span>–</span>;
  const d = new Date(at);
  const ago = Date.now() - d.getTime();
  // What is still to come is told by the hour only if it is today.
  const near = ago >= 0 ? ago < 20 * 3600_000 : d.toDateString() === new Date().toDateString();
  return (
    <time dateTime={at} title={d.toLocaleString()}>
      {near ? d.toLocaleTimeString("en-GB") : d.toLocaleDateString("sv-SE") + " " + d.toLocaleTimeString("en-GB").slice(0, 5)}
    </time>
  );
}

/** A span of milliseconds with the digits that matter. */
export function spanText(ms: number | null | undefined): string {
  if (ms === null || ms === undefined) return "–";
  if (ms < 0) return "-" + spanText(-ms);
  if (ms > 0 && ms < 0.1) return (ms * 1000).toFixed(0) + " µs";
  if (ms < 10) return ms.toFixed(1) + " ms";
  if (ms < 1000) return ms.toFixed(0) + " ms";
  if (ms < 60_000) return (ms / 1000).toFixed(2) + " s";
  if (ms < 3_600_000) return (ms / 60_000).toFixed(1) + " min";
  if (ms < 48 * 3_600_000) return (ms / 3_600_000).toFixed(1) + " h";
  return (ms / 86_400_000).toFixed(1) + " days";
}

export function bytesText(n: number): string {
  if (n < 1024) return n + " B";
  if (n < 1024 * 1024) return (n / 1024).toFixed(1) + " KiB";
  return (n / 1024 / 1024).toFixed(1) + " MiB";
}

export function Page({ title, says, actions, children }: { title: ReactNode; says?: ReactNode; actions?: ReactNode; children: ReactNode }) {
  useEffect(() => {
    document.title = (typeof title === "string" ? title + " · " : "") + "Ubiquon";
  }, [title]);
  return (
    <Box as="main" px="8" py="6" maxW="1180px">
      <Flex align="baseline" gap="4" mb="5">
        <Heading as="h1" fontSize="22px" fontWeight="650" letterSpacing="-0.01em">
          {title}
        </Heading>
        <Text color="faint" flex="1">
          {says}
        </Text>
        {actions}
      </Flex>
      {children}
    </Box>
  );
}

/** One figure of a row of them, with what it is of. */
export function Figure({ name, value, says }: { name: string; value: string; says: string }) {
  return (
    <Box borderTopWidth="2px" borderColor="accent" pt="2" data-figure={name}>
      <Text color="faint" fontSize="12px">
        {name}
      </Text>
      <Text fontSize="24px" fontWeight="600" lineHeight="1.25" letterSpacing="-0.01em">
        {value}
      </Text>
      <Text color="faint" fontSize="12px">
        {says}
      </Text>
    </Box>
  );
}

export function Section({ title, children }: { title: string; children: ReactNode }) {
  return (
    <Box as="section" mb="7">
      <Heading as="h2" fontSize="13px" fontWeight="600" color="faint" mb="2">
        {title}
      </Heading>
      {children}
    </Box>
  );
}

/** A table; the heads of columns of figures are named in numbers too. */
export function Rows({ head, numbers = [], children, label }: { head: string[]; numbers?: string[]; children: ReactNode; label: string }) {
  return (
    <Table.Root size="sm" variant="line" bg="sheet" borderWidth="1px" borderColor="line" aria-label={label}>
      <Table.Header>
        <Table.Row bg="transparent">
          {head.map((h) => (
            <Table.ColumnHeader key={h} textAlign={numbers.includes(h) ? "end" : undefined} color="faint" fontWeight="500" fontSize="12px" borderColor="line" py="1.5">
              {h}
            </Table.ColumnHeader>
          ))}
        </Table.Row>
      </Table.Header>
      <Table.Body>{children}</Table.Body>
    </Table.Root>
  );
}

export function Row({ children, ...rest }: { children: ReactNode; [data: `data-${string}`]: string | undefined }) {
  return (
    <Table.Row bg="transparent" _hover={{ bg: "color-mix(in srgb, currentColor 4%, transparent)" }} {...rest}>
      {children}
    </Table.Row>
  );
}

export function Cell({ children, right }: { children: ReactNode; right?: boolean }) {
  return (
    <Table.Cell borderColor="line" py="2" textAlign={right ? "end" : undefined}>
      {children}
    </Table.Cell>
  );
}

/** What a page shows while there is nothing: the next step. */
export function Empty({ children }: { children: ReactNode }) {
  return (
    <Box borderWidth="1px" borderStyle="dashed" borderColor="line" px="5" py="6" color="faint">
      {children}
    </Box>
  );
}

/** A name as people would say it: validUntil is Valid until. */
export function saidName(name: string): string {
  const words = name.replace(/([a-z0-9])([A-Z])/g, "$1 $2").toLowerCase();
  return words.charAt(0).toUpperCase() + words.slice(1);
}

/** A failure in the words of its problem document, with all that it lists. */
export function Failure({ error }: { error: unknown }) {
  if (!error) return null;
  const p = error instanceof Problem ? error : new Problem(0, "Failed", String(error));
  const { problems, mistakes, referredBy, consequences } = p.body;
  const lines = [
    ...(problems ?? []).map((x) => `${x.path}: ${x.text}`),
    ...(mistakes ?? []).map((x) => `${x.line}:${x.column} ${x.text}`),
    ...(referredBy ?? []).map((x) => `${x.type} “${x.title}” refers to it in ${x.field}`),
    ...(consequences ?? []).map((x) => `${x.where}: ${x.text} (${x.entries} entries)`),
  ];
  return (
    <Box role="alert" borderLeftWidth="3px" borderColor="failure" pl="4" py="2" my="2">
      <Text fontWeight="600" color="failure">
        ✕ {p.title}
      </Text>
      {lines.length === 0 && <Text>{p.message}</Text>}
      {lines.map((line) => (
        <Text key={line}>{line}</Text>
      ))}
      {p.hint && <Text color="faint">{p.hint}</Text>}
    </Box>
  );
}

/** A window in front of the page; Escape closes it. */
/**
 * A window. Once something is typed or chosen in it, Escape and the ground beside it do not close
 * it any more, and Close asks first; nor do they where it is held, since what it shows is shown once.
 */
export function Window({ title, open, close, children, actions, wide, held = false, closing = "Close" }: { title: string; open: boolean; close: () => void; children: ReactNode; actions?: ReactNode; wide?: boolean; held?: boolean; closing?: string }) {
  const [dirty, setDirty] = useState(false);
  const [asking, setAsking] = useState(false);
  const touched = () => {
    setDirty(true);
    setAsking(false);
  };
  const leave = () => {
    setDirty(false);
    setAsking(false);
    close();
  };
  const kept = dirty || held;
  return (
    <Dialog.Root open={open} onOpenChange={(e) => !e.open && leave()} closeOnEscape={!kept} closeOnInteractOutside={!kept} scrollBehavior="inside">
      <Portal>
        <Dialog.Backdrop bg="blackAlpha.500" />
        <Dialog.Positioner>
          <Dialog.Content bg="sheet" color="ink" borderWidth="1px" borderColor="line" borderRadius="md" maxW={wide ? "860px" : "520px"} data-window={title}>
            <Dialog.Header pb="2">
              <Dialog.Title fontSize="16px">{title}</Dialog.Title>
            </Dialog.Header>
            <Dialog.Body onInput={touched} onChange={touched}>
              {children}
            </Dialog.Body>
            <Dialog.Footer gap="2">
              {asking && (
                <Text color="warning" role="status" flex="1">
                  What you entered here is not kept.
                </Text>
              )}
              <Button size="sm" variant="outline" borderColor="line" color="ink" onClick={() => (dirty && !asking ? setAsking(true) : leave())}>
                {asking ? "Drop it" : closing}
              </Button>
              {actions}
            </Dialog.Footer>
          </Dialog.Content>
        </Dialog.Positioner>
      </Portal>
    </Dialog.Root>
  );
}

/** The one action of a page or window that matters most. */
export function Main(props: ButtonProps) {
  return <Button size="sm" bg="accent" color="sheet" _disabled={{ opacity: 0.45 }} {...props} />;
}

/** Any other action. */
export function Act(props: ButtonProps) {
  return <Button size="xs" variant="outline" borderColor="line" color="ink" bg="sheet" {...props} />;
}

/** A choice out of a few. */
export function Pick({ label, value, onChange, children, ...rest }: { label: string; value: string; onChange: (value: string) => void; children: ReactNode } & Omit<BoxProps, "onChange">) {
  return (
    <NativeSelect.Root size="sm" w="auto" {...(rest as object)}>
      <NativeSelect.Field bg="sheet" borderColor="line" aria-label={label} value={value} onChange={(e) => onChange(e.target.value)}>
        {children}
      </NativeSelect.Field>
      <NativeSelect.Indicator />
    </NativeSelect.Root>
  );
}

/** A tick box with its words. */
export function Tick({ checked, onChange, children, name }: { checked: boolean; onChange: (yes: boolean) => void; children?: ReactNode; name?: string }) {
  return (
    <Box as="label" display="inline-flex" alignItems="center" gap="2" cursor="pointer" verticalAlign="middle">
      <input type="checkbox" checked={checked} onChange={(e) => onChange(e.target.checked)} aria-label={name} style={{ accentColor: "var(--chakra-colors-accent)", width: 15, height: 15, margin: 0 }} />
      {children}
    </Box>
  );
}

/** How fields to fill in look. */
export const inputStyle = { size: "sm" as const, bg: "sheet", borderColor: "line", _placeholder: { color: "faint" } };

/** In which locales an entry can be read, and how much of it is translated. */
export function LocaleMarks({ of, live }: { of: Entry["locales"]; live?: string[] | null }) {
  const model = useModel({ staleTime: 60_000 });
  const order = model.data?.locales.map((l) => l.tag) ?? [];
  const all = Object.entries(of).sort(([a], [b]) => order.indexOf(a) - order.indexOf(b));
  return (
    <Flex gap="2.5" fontFamily="mono" fontSize="12.5px">
      {all.map(([tag, how]) => (
        <Box
          as="span"
          key={tag}
          title={`${tag}: ${how}${live ? (live.includes(tag) ? ", published" : ", not published in it") : ""}`}
          color={how === "translated" ? "ink" : how === "partly" ? "warning" : "faint"}
                  >
          {how === "partly" ? "◐" : how === "translated" ? "●" : "○"}
          {tag}
        </Box>
      ))}
    </Flex>
  );
}

/** Waits with a skeleton, fails in the words of the problem document. */
export function Loaded<T>({ query, children }: { query: { data: T | undefined; error: unknown }; children: (data: T) => ReactNode }) {
  if (query.data !== undefined)
    return (
      <>
        {query.error ? <Failure error={query.error} /> : null}
        {children(query.data)}
      </>
    );
  if (query.error) return <Failure error={query.error} />;
  return (
    <Flex direction="column" gap="2" aria-busy="true">
      {[0, 1, 2, 3, 4].map((i) => (
        <Skeleton key={i} height="9" />
      ))}
    </Flex>
  );
}

export function EntryLink({ id, title }: { id?: string; title?: string }) {
  if (!id) return <span>–</span>;
  return <Link to={"/entries/" + id}>{title || id}</Link>;
}
