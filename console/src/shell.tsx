import { Box, Button, Field, Flex, Heading, Input, Text } from "@chakra-ui/react";
import { useQueryClient } from "@tanstack/react-query";
import { Activity, EyeOff, FileText, Globe, KeyRound, Layers, Link2, LogOut, Moon, Radio, ScrollText, Settings, Shapes, Sun, Telescope, Users } from "lucide-react";
import { createContext, useContext, useEffect, useState, type FormEvent, type ReactNode } from "react";
import { NavLink, Outlet } from "react-router";
import { call, listen, Problem, proof, signedOut, type Who } from "./api";
import { refresh } from "./api/news";
import { Main, Mono, Window } from "./parts";

const rail: { group?: string; to: string; name: string; icon: ReactNode; admins?: boolean }[] = [
  { to: "/", name: "Now", icon: <Activity size={16} /> },
  { group: "Content", to: "/types", name: "Types", icon: <Shapes size={16} /> },
  { to: "/entries", name: "Entries", icon: <FileText size={16} /> },
  { group: "Reading", to: "/explorer", name: "Explorer", icon: <Telescope size={16} /> },
  { to: "/keys", name: "Keys", icon: <KeyRound size={16} />, admins: true },
  { to: "/previews", name: "Preview links", icon: <Link2 size={16} /> },
  { to: "/why", name: "Why not visible", icon: <EyeOff size={16} /> },
  { group: "Freshness", to: "/events", name: "Events", icon: <Radio size={16} /> },
  { to: "/sites", name: "Sites", icon: <Globe size={16} /> },
  { to: "/cache", name: "Cache", icon: <Layers size={16} /> },
  { group: "Service", to: "/settings", name: "Settings", icon: <Settings size={16} /> },
  { to: "/accounts", name: "Accounts", icon: <Users size={16} />, admins: true },
  { to: "/audit", name: "Audit log", icon: <ScrollText size={16} />, admins: true },
];

export function useColourMode() {
  const [mode, setMode] = useState(() => localStorage.getItem("ubiquon.mode") ?? (matchMedia("(prefers-color-scheme: dark)").matches ? "dark" : "light"));
  useEffect(() => {
    const root = document.documentElement;
    root.classList.remove("light", "dark");
    root.classList.add(mode);
    root.style.colorScheme = mode;
    localStorage.setItem("ubiquon.mode", mode);
  }, [mode]);
  return { mode, turn: () => setMode(mode === "dark" ? "light" : "dark") };
}

const WhoContext = createContext<Who | null>(null);

/** Who is signed in. */
export const useWho = () => useContext(WhoContext)!;

export function Shell() {
  const [who, setWho] = useState<Who | null | undefined>(undefined);
  // The session has ended while a page is open: who signs in again goes on where they were.
  const [expired, setExpired] = useState(false);
  const signedIn = !!who && !expired;
  const colour = useColourMode();
  const queries = useQueryClient();
  const [live, setLive] = useState(true);

  useEffect(() => {
    call<Who>("/session").then(setWho, () => setWho(null));
    const out = () => setExpired(true);
    signedOut.addEventListener("out", out);
    return () => signedOut.removeEventListener("out", out);
  }, []);

  useEffect(() => {
    if (!signedIn) return;
    const stop = new AbortController();
    // News come in bursts; what is shown is fetched again once for each burst.
    let due: ReturnType<typeof setTimeout> | undefined;
    const heard = new Set<string>();
    void listen(
      (word) => {
        heard.add(word);
        due ??= setTimeout(() => {
          due = undefined;
          refresh(queries, heard);
          heard.clear();
        }, 150);
      },
      setLive,
      stop.signal,
    );
    // A page that the browser keeps for its Back button would keep its stream
    // too, and only six connections go to one host.
    const hide = () => stop.abort();
    const show = (e: PageTransitionEvent) => e.persisted && location.reload();
    addEventListener("pagehide", hide);
    addEventListener("pageshow", show);
    return () => {
      clearTimeout(due);
      stop.abort();
      removeEventListener("pagehide", hide);
      removeEventListener("pageshow", show);
    };
  }, [signedIn, queries]);

  async function leave() {
    await call("/session", { method: "DELETE" }).catch(() => {}); // then it ends by itself
    queries.clear();
    setWho(null);
  }

  function again(now: Who) {
    if (now.name !== who?.name) queries.clear(); // what the other account saw is not theirs
    setWho(now);
    setExpired(false);
    void queries.invalidateQueries();
  }

  if (who === undefined) return null;
  if (who === null) return <SignIn done={again} />;
  return (
    <WhoContext value={who}>
    <Flex minH="100vh">
      <Flex as="nav" aria-label="Pages" direction="column" w="188px" flex="none" bg="rail" color="railInk" py="4" position="sticky" top="0" h="100vh">
        <Flex align="center" gap="2" px="4" mb="1">
          <img src="/console/mark.svg" width="22" height="22" alt="" />
          <Text fontWeight="700" fontSize="16px" color="white">
            Ubiquon
          </Text>
        </Flex>
        <Text px="4" mb="5" fontSize="12px" fontFamily="mono" opacity="0.75" title="Environment">
          {who.environment}
        </Text>
        {rail.filter((item) => !item.admins || who.may.administer).map((item) => (
          <Box key={item.to}>
            {item.group && (
              <Text px="4" pt="4" pb="1" fontSize="11px" opacity="0.6">
                {item.group}
              </Text>
            )}
            <NavLink to={item.to} end={item.to === "/"} style={{ textDecoration: "none", color: "inherit" }}>
              {({ isActive }) => (
                <Flex align="center" gap="2.5" px="4" py="1.5" bg={isActive ? "whiteAlpha.200" : undefined} color={isActive ? "white" : undefined} borderLeftWidth="3px" borderColor={isActive ? "#f6c667" : "transparent"} _hover={{ bg: "whiteAlpha.100" }}>
                  {item.icon}
                  {item.name}
                </Flex>
              )}
            </NavLink>
          </Box>
        ))}
        <Box flex="1" />
        <Text px="4" fontSize="12px" mb="2" role="status">
          {live ? "● live" : "○ not connected, trying"}
        </Text>
        <NavLink to="/you" style={{ textDecoration: "none", color: "inherit" }} title={"Your account: sessions and password\n" + who.grants.join("\n")}>
          <Text px="4" fontSize="12px" mb="1" opacity="0.75" truncate _hover={{ opacity: 1 }}>
            {who.name}
          </Text>
        </NavLink>
        <Flex px="2">
          <Button size="xs" variant="plain" color="railInk" onClick={colour.turn} aria-label={colour.mode === "dark" ? "Light colours" : "Dark colours"}>
            {colour.mode === "dark" ? <Sun size={15} /> : <Moon size={15} />}
          </Button>
          <Button size="xs" variant="plain" color="railInk" onClick={leave}>
            <LogOut size={15} /> Sign out
          </Button>
        </Flex>
      </Flex>
      <Box flex="1" minW="0" key={who.name}>
        <Outlet />
      </Box>
      <Proof />
      {expired && (
        <Box position="fixed" inset="0" zIndex="modal" bg="blackAlpha.500" role="dialog" aria-modal="true" aria-label="Sign in again">
          <SignIn email={who.name} done={again} />
        </Box>
      )}
    </Flex>
    </WhoContext>
  );
}

/** Asks for the password again before a change of who may do what; the change is then made as if nothing had been asked. */
function Proof() {
  const [waiting, setWaiting] = useState<((given: boolean) => void)[]>([]);
  const [password, setPassword] = useState("");
  const [wrong, setWrong] = useState<Problem | null>(null);
  const [busy, setBusy] = useState(false);
  useEffect(() => {
    proof.ask = () => new Promise((given) => setWaiting((all) => [...all, given]));
    return () => {
      proof.ask = async () => false;
    };
  }, []);
  function end(given: boolean) {
    waiting.forEach((tell) => tell(given));
    setWaiting([]);
    setPassword("");
    setWrong(null);
  }
  async function give(e: FormEvent) {
    e.preventDefault();
    setBusy(true);
    try {
      await call("/session/proof", { method: "POST", body: { password } });
      end(true);
    } catch (e) {
      setWrong(e instanceof Problem ? e : new Problem(0, "Failed", String(e)));
    } finally {
      setBusy(false);
    }
  }
  return (
    <Window title="Your password, once more" open={waiting.length > 0} close={() => end(false)} actions={<Main type="submit" form="proof" loading={busy} disabled={!password}>Go on</Main>}>
      <form id="proof" onSubmit={give}>
        <Text mb="3">Who may do what is changed only by somebody who has given the password within the last ten minutes. Nothing of what you entered is lost.</Text>
        <Field.Root invalid={wrong !== null}>
          <Field.Label>Password</Field.Label>
          <Input type="password" name="proof" autoComplete="current-password" autoFocus value={password} onChange={(e) => setPassword(e.target.value)} />
          {wrong && <Field.ErrorText>{wrong.message}</Field.ErrorText>}
        </Field.Root>
      </form>
    </Window>
  );
}

/** The frame of signing in and of choosing a password. */
export function Door({ says, over = false, children }: { says: ReactNode; over?: boolean; children: ReactNode }) {
  return (
    <Flex minH="100vh" align="center" justify="center">
      <Box as={over ? "div" : "main"} w="400px" bg="sheet" borderWidth="1px" borderColor="line" p="8">
        <Flex align="center" gap="2" mb="1">
          <img src="/console/mark.svg" width="26" height="26" alt="" />
          <Heading as="h1" fontSize="20px">
            Ubiquon
          </Heading>
        </Flex>
        <Text color="faint" mb="6">
          {says}
        </Text>
        {children}
      </Box>
    </Flex>
  );
}

function SignIn({ done, email: before = "" }: { done: (who: Who) => void; email?: string }) {
  const [email, setEmail] = useState(before);
  const [password, setPassword] = useState("");
  const [wrong, setWrong] = useState<Problem | null>(null);
  const [busy, setBusy] = useState(false);
  useColourMode();
  async function submit(e: FormEvent) {
    e.preventDefault();
    setBusy(true);
    try {
      done(await call<Who>("/session", { method: "POST", body: { email, password } }));
    } catch (e) {
      setWrong(e instanceof Problem ? e : new Problem(0, "Failed", String(e)));
    } finally {
      setBusy(false);
    }
  }
  return (
    <Door over={!!before} says={before ? "Your session has ended. Sign in again: the page behind is as you left it." : "Sign in"}>
      <form onSubmit={submit}>
        <Field.Root mb="3">
          <Field.Label>E-mail</Field.Label>
          <Input type="email" name="email" autoComplete="username" autoFocus={!before} value={email} onChange={(e) => setEmail(e.target.value)} />
        </Field.Root>
        <Field.Root invalid={wrong !== null} mb="4">
          <Field.Label>Password</Field.Label>
          <Input type="password" name="password" autoComplete="current-password" autoFocus={!!before} value={password} onChange={(e) => setPassword(e.target.value)} />
          {wrong && <Field.ErrorText>{wrong.message}</Field.ErrorText>}
        </Field.Root>
        <Button type="submit" bg="accent" color="sheet" w="full" loading={busy} disabled={!email || !password}>
          Sign in
        </Button>
      </form>
      <Text color="faint" fontSize="12px" mt="5">
        No account, or the password forgotten? An admin makes a link for you: <Mono>ubiquon account link EMAIL</Mono>. The demo prints its accounts at its start.
      </Text>
    </Door>
  );
}
