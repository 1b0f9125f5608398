// Compiles queries for clients of other makes against the schema of a running demo: a strict
// compiler with a refetchable fragment, and a generator of types whose output is compiled;
// then sends what the compiler has written down as persisted queries.
import { execFileSync } from "node:child_process";
import { mkdirSync, mkdtempSync, readdirSync, readFileSync, rmSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { dirname, join } from "node:path";
import { fileURLToPath } from "node:url";

const here = dirname(fileURLToPath(import.meta.url));
const bin = (name) => join(here, "node_modules/.bin", name);
const card = JSON.parse(readFileSync(process.argv[2], "utf8"));
let failed = 0;
const fail = (text) => {
  failed++;
  console.log("  " + text);
};
const headers = { Authorization: "Bearer " + card.keys.admin };
const base = card.gateway + "/content/main/published/graphql";
const sdl = await (await fetch(base + "/schema.graphql", { headers })).text();
const dir = mkdtempSync(join(tmpdir(), "clients-"));
const run = (what, file, args, cwd = dir) => {
  try {
    return execFileSync(file, args, { cwd, stdio: "pipe", env: { ...process.env, FORCE_COLOR: "0" } }).toString();
  } catch (e) {
    fail(`${what}: ${e.stdout}${e.stderr}`.slice(0, 3000));
  }
};
mkdirSync(join(dir, "src", "__generated__"), { recursive: true });
writeFileSync(join(dir, "schema.graphql"), sdl);

// A strict compiler: refetchable fragments need node(id:) and nothing else.
writeFileSync(
  join(dir, "src", "Notice.js"),
  `import { graphql } from "x";
export const a = graphql\`fragment Notice_notice on Notice @refetchable(queryName: "NoticeRefetchQuery") { id title severity routes { id name } }\`;
export const b = graphql\`query NoticeQuery($first: Int) { notices(first: $first, sort: ["title"]) { edges { cursor node { id ...Notice_notice } } pageInfo { hasNextPage endCursor } } }\`;
export const c = graphql\`fragment Notice_list on Query @argumentDefinitions(count: {type: "Int", defaultValue: 2}, cursor: {type: "String"}) @refetchable(queryName: "NoticeListQuery") {
  notices(first: $count, after: $cursor) @connection(key: "Notice_list_notices") { edges { node { id title } } } }\`;
export const d = graphql\`query NoticePageQuery { ...Notice_list }\`;
`,
);
writeFileSync(
  join(dir, "compile.json"),
  JSON.stringify({ src: "./src", schema: "./schema.graphql", language: "javascript", artifactDirectory: "./src/__generated__", persistConfig: { file: "./persisted.json", algorithm: "SHA256" } }),
);
writeFileSync(join(dir, "persisted.json"), "{}");
run("the strict compiler", bin("relay-compiler"), ["compile.json"]);
const written = readdirSync(join(dir, "src", "__generated__")).length;
if (written < 6) fail(`the strict compiler has written ${written} files`);

// What it has written down is registered as it is, and then named by its hash.
const persisted = JSON.parse(readFileSync(join(dir, "persisted.json"), "utf8"));
run("document add", process.argv[3], ["document", "add", join(dir, "persisted.json"), "--address", card.gateway, "--key", card.keys.admin]);
const { createHash } = await import("node:crypto");
for (const [id, text] of Object.entries(persisted)) {
  const hash = createHash("sha256").update(text).digest("hex");
  const variables = text.includes("$id") ? { id: "none" } : {};
  for (const body of [
    { documentId: id, variables },
    { variables, extensions: { persistedQuery: { version: 1, sha256Hash: hash } } },
  ]) {
    const answer = await (await fetch(base, { method: "POST", headers: { ...headers, "Content-Type": "application/json" }, body: JSON.stringify(body) })).json();
    if (answer.errors || !answer.data) fail(`${JSON.stringify(body)}: ${JSON.stringify(answer)}`);
  }
}
console.log(`strict compiler: ${written} files, ${Object.keys(persisted).length} persisted queries answered`);

// A generator of types.
writeFileSync(join(dir, "src", "all.graphql"), `query All { notices(first: 3) { nodes { id title severity about { published path } routes { id name } } totalCount } harbourSettings { name } }`);
writeFileSync(
  join(dir, "codegen.json"),
  JSON.stringify({ schema: join(dir, "schema.graphql"), documents: join(dir, "src/*.graphql"), generates: { [join(dir, "src/types.ts")]: { plugins: ["typescript", "typescript-operations"], config: { strictScalars: true, defaultScalarType: "unknown", scalars: { JSON: "unknown", Integer: "number", Date: "string", DateTime: "string" } } } } }),
);
run("the generator of types", bin("graphql-codegen"), ["--config", join(dir, "codegen.json")], here);
run("its output", join(here, "../../console/node_modules/.bin/tsc"), ["--noEmit", "--strict", "--skipLibCheck", "src/types.ts"]);
rmSync(dir, { recursive: true });
console.log(`clients: ${failed} problems`);
process.exit(failed ? 1 : 0);
