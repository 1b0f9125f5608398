// What a front end does with the kit; told what to do with in KIT, and telling what came of it.
import { CallError, ReadError, createReader, exitPreview, livePreview, pageMark, previewHandler, previewToken, report, stalePages, tagOf, verifyCall, writeManifest } from "ubiquon-kit";

const kit = JSON.parse(process.env.KIT);
const out = {};
const failure = (e) => (e instanceof ReadError ? `${e.status} ${e.problem.detail}` : `${e.name}: ${e.message}`);

const reader = createReader({ cache: "no-store" });
out.list = (await reader.list("piers", { fields: ["name"], sort: ["name"] })).items.map((p) => p.name);
out.all = [];
for await (const p of reader.all("piers", { fields: ["name"], sort: ["name"], limit: 1 })) out.all.push(p.name);
out.one = (await reader.one("piers", "mella", { fields: ["name"] })).name;
out.none = await reader.one("piers", "nowhere");
out.at = (await reader.at("/routes/loop", { fields: ["id"] })).id;
out.paths = (await Array.fromAsync?.(reader.paths()) ?? []).map((p) => p.path);
if (!Array.fromAsync) for await (const p of reader.paths()) out.paths.push(p.path);
out.few = [];
for await (const p of reader.paths({ fields: ["path"] })) out.few.push(Object.keys(p).join());
out.graphql = (await reader.graphql("{ piers { totalCount } }")).piers.totalCount;
out.refused = await reader.list("piers", { fields: ["nmae"] }).catch(failure);
out.mark = pageMark(reader.sequence) === `<meta name="ubiquon-sequence" content="${reader.sequence}">` && reader.sequence > 0;

const page = reader.page("/piers/mella", { render: "r1" });
await page.one("piers", "mella", { fields: ["name"] });
await reader.page("/größe").list("piers", { fields: ["slug"] });
await report(kit.order, "started");
await writeManifest({ build: String(kit.order.number) }, [{ page: "/all", reads: ["/piers?fields=name"] }, { page: "/mella", entries: [kit.pier] }]);
await report(kit.order, "finished");

let asked = 0;
const busy = createReader({ fetch: async (...a) => (++asked < 3 ? new Response("{}", { status: 503, headers: { "Retry-After": "0.01" } }) : fetch(...a)) });
out.retried = [(await busy.one("piers", "mella", { fields: ["name"] })).name, asked];
const gone = new AbortController();
gone.abort();
out.aborted = (await reader.list("piers", { signal: gone.signal }).catch((e) => e)).name;

const call = (change = {}) => new Request("http://site/refresh", { method: "POST", headers: { ...kit.call.headers, ...change.headers }, body: change.body ?? kit.call.body });
out.told = stalePages(await verifyCall(call())).pages.map((p) => p.path);
out.secrets = (await verifyCall(call(), "whsec_b3RoZXItc2VjcmV0LW90aGVy " + process.env.UBIQUON_SECRET)).type.endsWith("pages-stale");
for (const [name, made] of Object.entries({
  changed: call({ body: kit.call.body + " " }),
  late: call({ headers: { "webhook-timestamp": "1000" } }),
  unsigned: call({ headers: { "webhook-signature": "v1,bm90aGluZw==" } }),
  garbage: call({ headers: { "webhook-signature": "v1,%%% v2,x" } }),
}))
  out[name] = await verifyCall(made).then(() => "taken", (e) => (e instanceof CallError ? e.status : failure(e)));
out.tags = [tagOf("/piers"), tagOf("/" + "x".repeat(400)).length, tagOf("/" + "x".repeat(400)) === tagOf("/" + "x".repeat(401))];

const preview = previewHandler();
const opened = await preview(new Request(`http://site/preview?path=/routes/loop&token=${kit.token}`));
const set = opened.headers.get("set-cookie");
out.opened = [opened.status, opened.headers.get("location"), /HttpOnly; Secure; SameSite=None; Partitioned/.test(set)];
const next = new Request("http://site/routes/loop", { headers: { cookie: "a=b; " + set.split(";")[0] } });
const draft = createReader({ edition: "preview", key: previewToken(next), cache: "no-store" });
out.draft = (await draft.at("/routes/loop")).name;
out.elsewhere = (await preview(new Request(`http://site/preview?path=//evil.example&token=${kit.token}`))).headers.get("location");
out.forged = (await preview(new Request("http://site/preview?path=/&token=abc.def"))).status;
out.missing = (await preview(new Request("http://site/preview?path=/"))).status;
out.exit = /Max-Age=0/.test(exitPreview(new Request("http://site/exit?path=/x")).headers.get("set-cookie"));

let changes = 0;
const told = new Promise((resolve) => {
  const end = livePreview({
    address: process.env.UBIQUON_CONTENT,
    token: kit.token,
    changed: () => {
      changes++;
      end();
      resolve();
    },
  });
});
console.log("following");
await told;
out.changes = changes;
console.log(JSON.stringify(out));
process.exit(0);
