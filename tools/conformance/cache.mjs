// A shared cache that knows nothing of the gateway, and has the library http-cache-semantics
// decide what it keeps (RFC 9111), before a service of its own: how much it answers by
// itself, and whether anything is older after a publish that it was told of.
import { spawn } from "node:child_process";
import { mkdirSync, mkdtempSync, rmSync, writeFileSync } from "node:fs";
import { createServer } from "node:http";
import { request } from "node:http";
import { tmpdir } from "node:os";
import { join } from "node:path";
import CachePolicy from "http-cache-semantics";

const binary = process.argv[2];
let failed = 0;
const fail = (text) => {
  failed++;
  console.log("  " + text);
};

const held = new Map(); // by address: [{policy, body}]
const counts = { hit: 0, miss: 0, revalidated: 0 };
let purged = 0;
let gateway = "";

const ask = (base, method, path, headers, body) =>
  new Promise((resolve, reject) => {
    const req = request(base + path, { method, headers }, (res) => {
      const chunks = [];
      res.on("data", (c) => chunks.push(c));
      res.on("end", () => resolve({ status: res.statusCode, headers: res.headers, body: Buffer.concat(chunks) }));
    });
    req.on("error", reject);
    req.end(body);
  });

const cache = createServer(async (req, res) => {
  if (req.method === "PURGE") {
    purged++;
    if (req.url === "/*") held.clear();
    held.delete(req.url);
    return res.writeHead(204).end();
  }
  const asked = { url: req.url, method: req.method, headers: req.headers };
  const variants = held.get(req.url) ?? [];
  const fresh = variants.find((v) => v.policy.satisfiesWithoutRevalidation(asked));
  if (fresh) {
    counts.hit++;
    return res.writeHead(fresh.status, fresh.policy.responseHeaders()).end(fresh.body);
  }
  const before = purged;
  const answer = await ask(gateway, req.method, req.url, { ...req.headers, host: new URL(gateway).host });
  counts.miss++;
  const policy = new CachePolicy(asked, { status: answer.status, headers: answer.headers }, { shared: true });
  if (policy.storable() && before === purged) held.set(req.url, [...variants.filter((v) => !v.policy.satisfiesWithoutRevalidation(asked)), { policy, status: answer.status, body: answer.body }]);
  res.writeHead(answer.status, answer.headers).end(answer.body);
});
await new Promise((resolve) => cache.listen(0, "127.0.0.1", resolve));
const edge = `http://127.0.0.1:${cache.address().port}`;

const dir = mkdtempSync(join(tmpdir(), "ubiquon-cache-"));
mkdirSync(join(dir, "model"));
writeFileSync(
  join(dir, "model", "line.yaml"),
  `types:
  pier:
    plural: piers
    freshness: {shared: 5m, staleWhileRevalidate: 1h}
    fields: {name: {kind: text, translated: true}, slug: {kind: slug}}
locales: {en: {}, nb: {}}
`,
);
writeFileSync(join(dir, "ubiquon.yaml"), `listen: 127.0.0.1:0\ndata: data\nmodel: model\noutbound: {private: true}\ndownstream: {edge: {call: "${edge}{address}", method: PURGE, everything: "${edge}/*"}}\n`);
const service = spawn(binary, ["serve", "--config", join(dir, "ubiquon.yaml")], { stdio: ["ignore", "pipe", "pipe"] });
let said = "";
service.stdout.on("data", (d) => (said += d));
service.stderr.on("data", (d) => (said += d));
const until = async (what, is) => {
  for (let i = 0; i < 600; i++) {
    const got = await is();
    if (got) return got;
    await new Promise((r) => setTimeout(r, 50));
  }
  throw new Error(`not in time: ${what}\n${said}`);
};
try {
  const key = await until("the first key", () => said.match(/ubq_\w+/)?.[0]);
  gateway = await until("the address", () => said.match(/http:\/\/127\.0\.0\.1:\d+/)?.[0]);
  const control = async (method, path, body) => {
    const a = await ask(gateway, method, "/control/v1" + path, { Authorization: "Bearer " + key, "Content-Type": "application/json" }, body && JSON.stringify(body));
    if (a.status >= 300) throw new Error(`${method} ${path}: ${a.status} ${a.body}`);
    return JSON.parse(a.body);
  };
  const publish = (name) => control("POST", "/edits", { edits: [{ id: "p1", type: "pier", save: { name: { en: name, nb: name }, slug: "mella" }, do: "publish" }] });
  const told = () => until("the cache is told", async () => (await control("GET", "/downstream")).items.every((d) => d.behind === 0));
  await publish("Mella");
  await control("PATCH", "/open", { add: ["read published pier"] });
  await told();
  const base = "/content/main/published";
  const paths = [`${base}/piers?locale=nb`, `${base}/piers/mella?locale=en&fields=name`, `${base}/graphql?query=${encodeURIComponent('{piers(locale:"en"){nodes{name}}}')}`];
  for (let language = 0; language < 20; language++)
    for (const encoding of ["identity", "gzip", "br", "zstd"])
      for (const path of paths) {
        const a = await ask(edge, "GET", path, { "Accept-Language": `x-l${language}, en;q=0.5`, "Accept-Encoding": encoding });
        if (a.status !== 200) fail(`${path}: ${a.status} ${a.body}`);
      }
  const all = counts.hit + counts.miss;
  console.log(`shared cache: ${counts.hit} of ${all} reads answered by itself`);
  if (counts.hit / all < 0.95) fail("less than 95 in 100");
  let older = 0;
  for (let i = 0; i < 20; i++) {
    await publish("Mella " + i);
    await told();
    for (const path of paths) {
      const a = await ask(edge, "GET", path, { "Accept-Encoding": "identity" });
      if (!a.body.includes("Mella " + i)) older++;
    }
  }
  console.log(`shared cache: ${older} of ${20 * paths.length} first reads after a publish were older`);
  if (older) fail("older answers");
} catch (e) {
  fail(String(e));
} finally {
  const gone = new Promise((resolve) => service.on("exit", resolve));
  service.kill("SIGINT");
  await gone;
  cache.close();
  cache.closeAllConnections();
  rmSync(dir, { recursive: true, force: true });
}
console.log(`shared cache: ${failed} problems`);
process.exit(failed ? 1 : 0);
