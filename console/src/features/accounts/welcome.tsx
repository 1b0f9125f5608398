import { Button, Field, Input, Text } from "@chakra-ui/react";
import { useEffect, useState, type FormEvent } from "react";
import { call, Problem } from "../../api";
import { useColourMode } from "../../app/colour";
import { Door } from "../../app/door";

/** Where a link leads with which somebody chooses a password, once. */
export function WelcomePage() {
  useColourMode();
  // What follows # never leaves the browser by itself.
  const [link] = useState(() => location.hash.slice(1));
  const [known, setKnown] = useState<{ first: boolean; email?: string; name?: string } | null>(null);
  const [wrong, setWrong] = useState<Problem | null>(null);
  const [email, setEmail] = useState("");
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  const [busy, setBusy] = useState(false);
  useEffect(() => {
    call<{ first: boolean; email?: string; name?: string }>("/welcome", { method: "POST", body: { link } }).then(
      (k) => {
        setKnown(k);
        setEmail(k.email ?? "");
        setName(k.name ?? "");
      },
      (e) => setWrong(e instanceof Problem && e.status === 404 ? new Problem(404, "", "This link was used already, or is too old. An admin makes a new one: ubiquon account link EMAIL") : e),
    );
  }, [link]);
  async function submit(e: FormEvent) {
    e.preventDefault();
    setBusy(true);
    try {
      await call("/welcome", { method: "POST", body: { link, email, name, password } });
      location.replace("/console/");
    } catch (e) {
      setWrong(e instanceof Problem ? e : new Problem(0, "Failed", String(e)));
      setBusy(false);
    }
  }
  return (
    <Door says={known?.first ? "Make the first account, which may do everything" : "Choose a password"}>
      {!known && wrong && (
        <Text role="alert" color="failure">
          ✕ {wrong.message}
        </Text>
      )}
      {known && (
        <form onSubmit={submit}>
          <Field.Root mb="3">
            <Field.Label>E-mail</Field.Label>
            <Input type="email" name="email" autoComplete="username" readOnly={!known.first} value={email} onChange={(e) => setEmail(e.target.value)} />
          </Field.Root>
          <Field.Root mb="3">
            <Field.Label>Name</Field.Label>
            <Input name="name" autoComplete="name" value={name} onChange={(e) => setName(e.target.value)} />
          </Field.Root>
          <Field.Root mb="4" invalid={wrong !== null}>
            <Field.Label>Password, at least 12 characters</Field.Label>
            <Input type="password" name="password" autoComplete="new-password" value={password} onChange={(e) => setPassword(e.target.value)} />
            {wrong && <Field.ErrorText>{wrong.message}</Field.ErrorText>}
          </Field.Root>
          <Button type="submit" bg="accent" color="sheet" w="full" loading={busy} disabled={!email || password.length < 12}>
            {known.first ? "Make the account" : "Choose it"}
          </Button>
        </form>
      )}
    </Door>
  );
}
