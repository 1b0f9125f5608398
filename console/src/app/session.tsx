import { Box, Text } from "@chakra-ui/react";
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { useEffect, useState, type ReactNode } from "react";
import { call, Problem, proof, refreshAll, setEnvironment, signedOut, type Who } from "../api";
import { WhoContext } from "../lib/who";
import { Fields, Main, Mono, TextField, useFields, Window } from "../ui";
import { useColourMode } from "./colour";
import { Door } from "./door";

const makeQueries = () =>
  new QueryClient({
    defaultOptions: {
      queries: {
        staleTime: 2_000,
        retry: (count, error) => !(error instanceof Problem && error.status >= 400 && error.status < 500) && count < 2,
      },
    },
  });

/** Asks who is signed in, and shows the pages to them alone. */
export function Session({ children }: { children: (who: Who) => ReactNode }) {
  const [who, setWho] = useState<Who | null | undefined>(undefined);
  // The session has ended while a page is open: who signs in again goes on where they were.
  const [expired, setExpired] = useState(false);
  const [queries, setQueries] = useState(makeQueries);

  useEffect(() => {
    call<Who>("/session").then(setWho, () => setWho(null));
    const out = () => setExpired(true);
    signedOut.addEventListener("out", out);
    return () => signedOut.removeEventListener("out", out);
  }, []);

  async function signOut() {
    await call("/session", { method: "DELETE" }).catch(() => {}); // then it ends by itself
    setQueries(makeQueries());
    setWho(null);
  }

  function again(now: Who) {
    if (now.name !== who?.name) setQueries(makeQueries()); // what the other account saw is not theirs
    else void refreshAll(queries);
    setWho(now);
    setExpired(false);
  }

  if (who === undefined) return null;
  if (who === null) return <SignIn done={again} />;
  setEnvironment(who.environment);
  return (
    <WhoContext value={{ who, signOut, signedIn: !expired }}>
      <QueryClientProvider client={queries}>
        {children(who)}
        <Proof />
      </QueryClientProvider>
      {expired && (
        <Box position="fixed" inset="0" zIndex="modal" bg="blackAlpha.500" role="dialog" aria-modal="true" aria-label="Sign in again">
          <SignIn email={who.name} done={again} />
        </Box>
      )}
    </WhoContext>
  );
}

/** Asks for the password again before a change of who may do what; the change is then made as if nothing had been asked. */
function Proof() {
  const [waiting, setWaiting] = useState<((given: boolean) => void)[]>([]);
  const fields = useFields({ password: "" });
  useEffect(() => {
    proof.ask = () => new Promise((given) => setWaiting((all) => [...all, given]));
    return () => {
      proof.ask = async () => false;
    };
  }, []);
  function end(given: boolean) {
    waiting.forEach((tell) => tell(given));
    setWaiting([]);
    fields.reset();
  }
  return (
    <Window
      title="Confirm your password"
      open={waiting.length > 0}
      close={() => end(false)}
      actions={
        <Main type="submit" form="proof" loading={fields.formState.isSubmitting} disabled={!fields.watch("password")}>
          Continue
        </Main>
      }
    >
      <Fields
        id="proof"
        of={fields}
        submit={async ({ password }) => {
          await call("/session/proof", { method: "POST", body: { password } });
          end(true);
        }}
        whole="password"
      >
        <Text mb="3">Who may do what is changed only by somebody who has given the password within the last ten minutes. Nothing of what you entered is lost.</Text>
        <TextField name="password" label="Password" type="password" autoComplete="current-password" autoFocus />
      </Fields>
    </Window>
  );
}

function SignIn({ done, email = "" }: { done: (who: Who) => void; email?: string }) {
  const fields = useFields({ email, password: "" });
  useColourMode();
  return (
    <Door over={!!email} says={email ? "Your session has ended. Sign in again: the page behind is as you left it." : "Sign in"}>
      <Fields of={fields} submit={async (given) => done(await call<Who>("/session", { method: "POST", body: given }))} whole="password">
        <TextField name="email" label="E-mail" type="email" autoComplete="username" autoFocus={!email} />
        <TextField name="password" label="Password" type="password" autoComplete="current-password" autoFocus={!!email} />
        <Main type="submit" size="md" w="full" mt="2" loading={fields.formState.isSubmitting} disabled={!fields.watch("email") || !fields.watch("password")}>
          Sign in
        </Main>
      </Fields>
      <Text color="faint" fontSize="12px" mt="5">
        No account, or the password forgotten? An admin makes a link for you: <Mono>ubiquon account link EMAIL</Mono>. The demo prints its accounts at its start.
      </Text>
    </Door>
  );
}
