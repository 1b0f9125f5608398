import { Text } from "@chakra-ui/react";
import { useEffect, useState } from "react";
import { call, Problem } from "../../api";
import { Fields, Main, TextField, useFields } from "../../ui";
import { useColourMode } from "../../app/colour";
import { Door } from "../../app/door";

/** Where a link leads with which somebody chooses a password, once. */
export function WelcomePage() {
  useColourMode();
  // What follows # never leaves the browser by itself.
  const [link] = useState(() => location.hash.slice(1));
  const [known, setKnown] = useState<{ first: boolean; email?: string; name?: string } | null>(null);
  const [wrong, setWrong] = useState<Problem | null>(null);
  const fields = useFields({ email: "", name: "", password: "" });
  const { reset } = fields;
  useEffect(() => {
    call<{ first: boolean; email?: string; name?: string }>("/welcome", { method: "POST", body: { link } }).then(
      (k) => {
        setKnown(k);
        reset({ email: k.email ?? "", name: k.name ?? "", password: "" });
      },
      (e) => setWrong(e instanceof Problem && e.status === 404 ? new Problem(404, "", "This link was used already, or is too old. An admin makes a new one: ubiquon account link EMAIL") : e),
    );
  }, [link, reset]);
  return (
    <Door says={known?.first ? "Make the first account, which may do everything" : "Choose a password"}>
      {!known && wrong && (
        <Text role="alert" color="failure">
          ✕ {wrong.message}
        </Text>
      )}
      {known && (
        <Fields
          of={fields}
          whole="password"
          submit={async (given) => {
            await call("/welcome", { method: "POST", body: { link, ...given } });
            location.replace("/console/");
          }}
        >
          <TextField name="email" label="E-mail" type="email" autoComplete="username" readOnly={!known.first} />
          <TextField name="name" label="Name" autoComplete="name" />
          <TextField name="password" label="Password" type="password" autoComplete="new-password" help="At least 12 characters" />
          <Main type="submit" size="md" w="full" mt="2" loading={fields.formState.isSubmitting} disabled={!fields.watch("email") || fields.watch("password").length < 12}>
            {known.first ? "Make the account" : "Choose it"}
          </Main>
        </Fields>
      )}
    </Door>
  );
}
