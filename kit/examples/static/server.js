// A build host in one file: it takes the gateway's calls, has Eleventy render what is stale, and serves the site.
import { execFile } from "node:child_process";
import { createServer } from "node:http";
import { readFile, rename, rm, writeFile } from "node:fs/promises";
import { join, normalize } from "node:path";
import { promisify } from "node:util";
import { carryOut, orderOf, pagesOf } from "./connect.js";

const to = process.env.TO ?? "public";

async function build(order) {
  const all = await pagesOf(order);
  const stale = (path) => order.pages === "all" || order.pages.includes(path);
  const shown = all.filter((p) => stale(p.path)).map((p) => ({ ...p, build: order.number }));
  await writeFile("pages.json", JSON.stringify(shown));
  const whole = order.pages === "all";
  const into = whole ? to + ".new" : to;
  if (shown.length) await promisify(execFile)("npx", ["--no-install", "eleventy"], { env: { ...process.env, PAGES: "pages.json", TO: into } });
  if (whole) {
    await rm(to, { recursive: true, force: true });
    return rename(into, to);
  }
  const there = new Set(all.map((p) => p.path));
  for (const path of order.pages) if (!there.has(path)) await rm(join(to, normalize(path)), { recursive: true, force: true });
}

const server = createServer(async (req, res) => {
  const at = new URL(req.url, "http://site");
  if (req.method === "POST" && at.pathname === "/build") {
    const chunks = [];
    for await (const chunk of req) chunks.push(chunk);
    const request = new Request(at, { method: "POST", headers: req.headers, body: Buffer.concat(chunks) });
    try {
      const order = await orderOf(request);
      res.writeHead(202).end();
      if (!order.test) carryOut(order, build).catch(console.error);
    } catch (e) {
      res.writeHead(e.status ?? 500).end(e.message);
    }
    return;
  }
  const file = join(to, normalize(at.pathname), "index.html");
  await readFile(file).then((page) => res.writeHead(200, { "Content-Type": "text/html; charset=utf-8" }).end(page), () => res.writeHead(404).end("There is no such page."));
});
server.listen(Number(process.env.PORT ?? 8450), "127.0.0.1", () => console.log(`listening on http://127.0.0.1:${server.address().port}`));
