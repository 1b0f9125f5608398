import { Box, Button, Flex, Heading, Skeleton, Table, Text, type BoxProps } from "@chakra-ui/react";
import { Check, Copy } from "lucide-react";
import { useEffect, useState, type ReactNode } from "react";
import { Link } from "react-router";
import { Problem } from "./api";

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
  waiting: { sign: "◷", colour: "warning" },
  running: { sign: "▶", colour: "accent" },
  draft: { sign: "○", colour: "faint" },
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
  const near = Date.now() - d.getTime() < 20 * 3600_000;
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
  return (ms / 3_600_000).toFixed(1) + " h";
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

/** Waits with a skeleton, fails in the words of the problem document. */
export function Loaded<T>({ query, children }: { query: { data: T | undefined; error: unknown }; children: (data: T) => ReactNode }) {
  if (query.data !== undefined) return <>{children(query.data)}</>;
  if (query.error) {
    const p = query.error instanceof Problem ? query.error : new Problem(0, "Failed", String(query.error));
    return (
      <Box role="alert" borderLeftWidth="3px" borderColor="failure" pl="4" py="2">
        <Text fontWeight="600" color="failure">
          ✕ {p.title}
        </Text>
        <Text>{p.message}</Text>
        {p.hint && <Text color="faint">{p.hint}</Text>}
      </Box>
    );
  }
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
