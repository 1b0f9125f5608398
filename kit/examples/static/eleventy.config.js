import { readFileSync } from "node:fs";

// The pages are in a file that server.js writes: all of them, or those that are stale.
export default function (config) {
  config.addGlobalData("shown", JSON.parse(readFileSync(process.env.PAGES, "utf8")));
  config.setQuietMode(true);
  return { dir: { input: "pages", output: process.env.TO ?? "public" } };
}
