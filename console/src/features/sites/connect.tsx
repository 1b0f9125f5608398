import { Box, Flex, Text } from "@chakra-ui/react";
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import buildLines from "../../../../kit/lines/build.txt?raw";
import refreshLines from "../../../../kit/lines/refresh.txt?raw";
import { call, key, refreshAll, type CallAnswer, type Site } from "../../api";
import { useWho } from "../../lib/who";
import { CopyButton, Fields, Main, Mono, PickField, TextField, useFields, Window } from "../../ui";

type Made = { name: string; lines: [string, string][]; build: boolean };

const kitName = "ubiquon-kit-1.0.0.tgz";

const secretOf = () => "whsec_" + btoa(String.fromCharCode(...crypto.getRandomValues(new Uint8Array(24))));

/** Connects a front end: makes the site, its key, secret and rule, and waits for its first read and report. */
export function ConnectWindow({ close }: { close: () => void }) {
  const [made, setMade] = useState<Made>();
  return made ? <Waiting made={made} close={close} /> : <Asking done={setMade} close={close} />;
}

function Asking({ done, close }: { done: (made: Made) => void; close: () => void }) {
  const who = useWho();
  const queries = useQueryClient();
  const fields = useFields({ name: "", kind: "build", address: "", call: "" });
  const kind = fields.watch("kind");
  async function connect(v: { name: string; kind: string; address: string; call: string }) {
    const name = v.name.trim();
    const build = v.kind === "build";
    const secret = secretOf();
    const put = (path: string, body: unknown) => call(path, { method: "PUT", headers: path.startsWith("/secrets/") ? {} : { "If-None-Match": "*" }, body });
    await put("/secrets/" + encodeURIComponent(name), { value: secret });
    await put("/sites/" + encodeURIComponent(name), { address: v.address, [build ? "build" : "refresh"]: { call: v.call, secret: "secret:" + name }, live: { probe: "pages" } });
    await put("/rules/" + encodeURIComponent(`Keep ${name} fresh`), {
      on: ["published", "unpublished", "deleted"],
      do: [build ? { rebuild: { site: name } } : { refresh: { site: name, pages: ["*"] } }],
    });
    const k = await call<{ secret: string }>("/keys", { method: "POST", body: { name, site: name, grants: ["read published *"] } });
    await refreshAll(queries);
    done({
      name,
      build,
      lines: [
        ["UBIQUON_CONTENT", `${location.origin}/content/${who.environment}/published`],
        ["UBIQUON_KEY", k.secret],
        ["UBIQUON_SECRET", secret],
      ],
    });
  }
  return (
    <Window title="Connect a site" open close={close} actions={<Main type="submit" form="connect" loading={fields.formState.isSubmitting}>Make what it needs</Main>}>
      <Fields of={fields} submit={connect} id="connect" whole="name">
        <TextField name="name" label="Name" placeholder="skerry-web" rules={{ required: "It needs a name.", pattern: { value: /^[a-z0-9]+(-[a-z0-9]+)*$/, message: "Write it in a-z, 0-9 and -." } }} />
        <PickField name="kind" label="Kind of front end">
          <option value="build">built as static pages</option>
          <option value="refresh">rendered on a server</option>
        </PickField>
        <TextField name="address" label="Address" placeholder="https://skerry.example" rules={{ required: "Where do visitors find it?" }} />
        <TextField name="call" label={kind === "build" ? "Address that starts a build" : "Address that takes refresh calls"} placeholder={kind === "build" ? "https://builder.example/build" : "https://board.example/refresh"} rules={{ required: "Which address is called?" }} help="It is called with POST, signed by Standard Webhooks." />
      </Fields>
    </Window>
  );
}

function Waiting({ made, close }: { made: Made; close: () => void }) {
  const [answer, setAnswer] = useState<CallAnswer>();
  const sites = useQuery({ queryKey: key("sites"), queryFn: ({ signal }) => call<{ items: Site[] }>("/sites", { signal }) });
  const site = sites.data?.items.find((s) => s.name === made.name);
  const read = (site?.reads.length ?? 0) > 0;
  const reported = made.build ? !!site?.builds[0]?.started || site?.builds[0]?.state === "finished" : !!answer && !answer.error;
  const text = made.lines.map(([name, value]) => `${name}=${value}`).join("\n");
  const code = `// npm install ${location.origin}/kit/${kitName}\n${made.build ? buildLines : refreshLines}`;
  async function test() {
    if (made.build) await call(`/sites/${made.name}/rebuild`, { method: "POST", body: { now: true } });
    else setAnswer(await call<CallAnswer>(`/sites/${made.name}/test`, { method: "POST" }));
  }
  return (
    <Window title={`${made.name} is connected`} open close={close} held wide closing="Done">
      <Text mb="2">Set these lines in the front end's environment. The key and the secret are shown only now.</Text>
      <Flex gap="3" align="start" mb="4">
        <Box as="pre" flex="1" bg="page" borderWidth="1px" borderColor="line" px="3" py="2" fontFamily="mono" fontSize="12.5px" overflowX="auto" data-lines>
          {text}
        </Box>
        <CopyButton text={text} label="the lines" />
      </Flex>
      <Text mb="2">In JavaScript, these lines connect it.</Text>
      <Flex gap="3" align="start" mb="4">
        <Box as="pre" flex="1" bg="page" borderWidth="1px" borderColor="line" px="3" py="2" fontFamily="mono" fontSize="12.5px" overflow="auto" maxH="220px" tabIndex={0} aria-label="Lines that connect it" data-kit>
          {code}
        </Box>
        <CopyButton text={code} label="the code" />
      </Flex>
      <Text role="status" color={read ? "good" : "faint"} data-read={read ? "yes" : "no"}>
        {read ? `● It has read ${site?.reads.join(", ")}.` : "◷ Waiting for the first read with its key …"}
      </Text>
      <Text role="status" color={reported ? "good" : answer?.error ? "failure" : "faint"} data-reported={reported ? "yes" : "no"}>
        {reported ? (made.build ? "● It has reported a build." : "● It has answered the call.") : answer?.error ? "✕ " + answer.error : made.build ? "◷ Waiting for the first report of a build …" : "◷ It has not been called yet."}
      </Text>
      <Box mt="3">
        <Main onClick={() => void test()}>{made.build ? "Ask for a build now" : "Call it now"}</Main>
      </Box>
      <Text color="faint" mt="3" fontSize="13px">
        A rule <Mono>Keep {made.name} fresh</Mono> calls it whenever something is published, taken back or deleted.
      </Text>
    </Window>
  );
}
