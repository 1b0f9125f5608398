import { Box, Input } from "@chakra-ui/react";
import { useState, type FormEvent } from "react";
import { useSearchParams } from "react-router";
import { Main, Page, SameByCommand } from "../../ui";
import { whyCommand, WhyView, type Question } from "./why-window";

/** Asks why somebody does not see something; the question is in the address. */
export function WhyPage() {
  const [params, setParams] = useSearchParams();
  const q: Question = {};
  for (const name of ["entry", "request", "key", "edition", "locale"] as const) {
    const v = params.get(name);
    if (v) q[name] = v;
  }
  const put = (next: Question) => setParams(Object.fromEntries(Object.entries(next).filter(([, v]) => v)) as Record<string, string>);
  const [asked, setAsked] = useState(q.entry ?? q.request ?? "");
  function submit(e: FormEvent) {
    e.preventDefault();
    const what = asked.trim();
    const { entry: _, request: __, ...rest } = q;
    put(what.includes("/content/") ? { ...rest, request: what } : { ...rest, entry: what });
  }
  return (
    <Page title="Why not visible" says="Every reason that keeps a reader from an entry, and what mends it">
      <Box as="form" onSubmit={submit as never} display="flex" gap="2" mb="4">
        <Input size="sm" bg="sheet" borderColor="control" fontFamily="mono" aria-label="Entry" name="entry" placeholder="slug, path, id, or the address that was refused" value={asked} onChange={(e) => setAsked(e.target.value)} />
        <Main type="submit">Ask why</Main>
      </Box>
      <WhyView q={q} put={put} />
      <SameByCommand command={whyCommand(q)} />
    </Page>
  );
}
