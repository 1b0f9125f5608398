import { Box, Flex, Heading, Skeleton, Text } from "@chakra-ui/react";
import { useEffect, useRef, type ReactNode } from "react";
import { useLocation } from "react-router";
import { Problem } from "../api";
import { navigated } from "../lib/navigated";

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

/** A part of a page, with a title and perhaps its own actions. */
export function Section({ title, actions, children }: { title: string; actions?: ReactNode; children: ReactNode }) {
  return (
    <Box as="section" mb="7">
      <Flex align="center" mb="2" gap="3">
        <Heading as="h2" fontSize="13px" fontWeight="600" color="faint" flex="1">
          {title}
        </Heading>
        {actions}
      </Flex>
      {children}
    </Box>
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

/** A failure in the words of its problem document, with all that it lists. */
export function Failure({ error }: { error: unknown }) {
  if (!error) return null;
  const p = error instanceof Problem ? error : new Problem(0, "Failed", String(error));
  const { problems, mistakes, referredBy, consequences, settings } = p.body;
  const lines = [
    ...(settings ?? []).map((x) => [x.path, x.text].filter(Boolean).join(": ")),
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
  return <Skeletons />;
}

/** What stands for a list while it is loaded. */
export function Skeletons() {
  return (
    <Flex direction="column" gap="2" aria-busy="true">
      {[0, 1, 2, 3, 4].map((i) => (
        <Skeleton key={i} height="9" />
      ))}
    </Flex>
  );
}

/** A page: its title, what it is about, its actions. The focus moves to the title when somebody comes here from another page. */
export function Page({ title, says, actions, children }: { title: ReactNode; says?: ReactNode; actions?: ReactNode; children: ReactNode }) {
  const heading = useRef<HTMLHeadingElement>(null);
  const { pathname } = useLocation();
  useEffect(() => {
    document.title = (typeof title === "string" ? title + " · " : "") + "Ubiquon";
  }, [title]);
  useEffect(() => {
    if (navigated() && !document.querySelector("main input:focus, main textarea:focus, [role=dialog]")) heading.current?.focus({ preventScroll: true });
  }, [pathname]);
  return (
    <Box as="main" id="content" px={{ base: "4", lg: "8" }} py="6" maxW="1180px">
      <Flex align="baseline" gap="4" mb="5" wrap={{ base: "wrap", lg: "nowrap" }}>
        <Heading as="h1" ref={heading} tabIndex={-1} fontSize="22px" fontWeight="650" letterSpacing="-0.01em" outline="none" wordBreak="break-word">
          {title}
        </Heading>
        <Box color="faint" flex="1" minW="0">
          {says}
        </Box>
        {actions}
      </Flex>
      {children}
    </Box>
  );
}
