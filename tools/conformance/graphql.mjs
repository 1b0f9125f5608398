// Holds a running demo's GraphQL against graphql-js and against the audits of
// the GraphQL-over-HTTP specification: node graphql.mjs path/to/demo.json
import fs from "node:fs";
import { buildClientSchema, getIntrospectionQuery, validateSchema } from "graphql";
import { serverAudits } from "graphql-http";

const card = JSON.parse(fs.readFileSync(process.argv[2], "utf8"));
const url = card.gateway + "/content/main/published/graphql";
const authorized = (u, init = {}) => fetch(u, { ...init, headers: { ...init.headers, Authorization: "Bearer " + card.keys.published } });
let failed = 0;

const answer = await authorized(url, {
  method: "POST",
  headers: { "content-type": "application/json" },
  body: JSON.stringify({
    query: getIntrospectionQuery({ inputValueDeprecation: true, oneOf: true, directiveIsRepeatable: true, schemaDescription: true, specifiedByUrl: true }),
  }),
});
const problems = validateSchema(buildClientSchema((await answer.json()).data));
for (const p of problems) console.log("introspection:", String(p));
failed += problems.length;
console.log(`introspection: ${problems.length} problems`);

// ok; notice is a failed MAY, warn a failed SHOULD, error a failed MUST.
const count = { ok: 0, notice: 0, warn: 0, error: 0 };
for (const audit of serverAudits({ url, fetchFn: authorized })) {
  const result = await audit.fn();
  count[result.status]++;
  if (result.status === "warn" || result.status === "error") {
    failed++;
    console.log(`${result.status}: ${audit.name}: ${result.reason}`);
  }
}
console.log(`GraphQL over HTTP: ${count.ok} passed, ${count.notice} MAY, ${count.warn} SHOULD and ${count.error} MUST failed`);
process.exit(failed ? 1 : 0);
