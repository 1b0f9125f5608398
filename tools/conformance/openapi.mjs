// Holds the OpenAPI description of a running demo against two validators, runs its
// examples, and holds what comes back against the schemas.
import { execFileSync } from "node:child_process";
import { mkdtempSync, readFileSync, rmSync, writeFileSync } from "node:fs";
import { tmpdir } from "node:os";
import { dirname, join } from "node:path";
import { fileURLToPath } from "node:url";
import { Validator } from "@seriousme/openapi-schema-validator";
import Ajv2020 from "ajv/dist/2020.js";
import addFormats from "ajv-formats";

const here = dirname(fileURLToPath(import.meta.url));
const card = JSON.parse(readFileSync(process.argv[2], "utf8"));
let failed = 0;
const fail = (text) => {
  failed++;
  console.log("  " + text);
};
const get = (path) => fetch(card.gateway + path, { signal: AbortSignal.timeout(20_000), headers: { Authorization: "Bearer " + card.keys.preview } });
const dir = mkdtempSync(join(tmpdir(), "openapi-"));
// Two validators find different mistakes.
async function validate(name, api) {
  const { valid, errors } = await new Validator().validate(structuredClone(api));
  if (!valid) fail(`${name}: ${JSON.stringify(errors).slice(0, 800)}`);
  const file = join(dir, name + ".json");
  writeFileSync(file, JSON.stringify(api));
  try {
    execFileSync(join(here, "node_modules/.bin/redocly"), ["lint", file, "--format", "stylish", "--extends", "spec"], { stdio: "pipe", cwd: dir, env: { ...process.env, REDOCLY_TELEMETRY: "off", REDOCLY_SUPPRESS_UPDATE_NOTICE: "true" } });
  } catch (e) {
    fail(`${name}: ${e.stdout}${e.stderr}`.slice(0, 3000));
  }
}
await validate("control", await (await get("/control/v1/openapi.json")).json());
for (const edition of ["published", "preview"]) {
  const base = "/content/main/" + edition;
  const api = await (await get(base + "/openapi.json")).json();
  await validate(edition, api);
  const ajv = new Ajv2020({ strict: false, allErrors: true });
  addFormats(ajv);
  ajv.addSchema({ $id: "https://api.example/", components: api.components });
  let ran = 0;
  for (const [path, { get: op }] of Object.entries(api.paths)) {
    if (!op || path.includes("{") || path === "/at") continue;
    const body = op.responses["200"].content["application/json"].schema;
    const check = ajv.compile(JSON.parse(JSON.stringify(body).replaceAll('"#/', '"https://api.example/#/')));
    for (const examples of [true, false]) {
      const query = new URLSearchParams(op.parameters.filter((p) => (examples || p.required) && p.example !== undefined).map((p) => [p.name, String(p.example)]));
      const answer = await get(`${base}${path}?${query}`);
      const got = await answer.json();
      ran++;
      if (answer.status !== 200) fail(`${edition} ${path}?${query}: ${answer.status} ${JSON.stringify(got)}`);
      else if (!check(got)) fail(`${edition} ${path}?${query} is not as described: ${ajv.errorsText(check.errors).slice(0, 600)}`);
    }
  }
  // What fields asks of values is described, too.
  for (const [path, fields] of [
    ["/notices", "title,severity(label),routes(name,piers(name))"],
    ["/notices", "severity(value,label),about(path,updated)"],
    ["/people", "name,portrait(alt)"],
    ["/dispatches", "title,text(plain,tree),writer(name,portrait(width))"],
  ]) {
    const body = api.paths[path].get.responses["200"].content["application/json"].schema;
    const check = ajv.compile(JSON.parse(JSON.stringify(body).replaceAll('"#/', '"https://api.example/#/')));
    const answer = await get(`${base}${path}?fields=${encodeURIComponent(fields)}`);
    const got = await answer.json();
    ran++;
    if (answer.status !== 200 || !check(got)) fail(`${edition} ${path}?fields=${fields} is not as described: ${answer.status} ${ajv.errorsText(check.errors).slice(0, 600)}`);
  }
  const schema = await (await get(base + "/schema")).json();
  ajv.compile(schema);
  console.log(`OpenAPI, ${edition}: ${Object.keys(api.paths).length} paths, ${ran} examples ran`);
}
rmSync(dir, { recursive: true });
console.log(`OpenAPI: ${failed} problems`);
process.exit(failed ? 1 : 0);
