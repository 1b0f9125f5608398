import { Text } from "@chakra-ui/react";
import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { call, key, type Site, type SitePages } from "../../api";
import { Side } from "./side";

/** How many pages of a site are named. */
const few = 5;

/** The pages of sites that show something of an entry. */
export function OnPages({ entry }: { entry: string }) {
  const sites = useQuery({ queryKey: key("sites"), queryFn: ({ signal }) => call<{ items: Site[] }>("/sites", { signal }) });
  return (sites.data?.items ?? []).map((s) => <OnSite key={s.name} site={s.name} entry={entry} />);
}

function OnSite({ site, entry }: { site: string; entry: string }) {
  const asked = new URLSearchParams({ site, entry, limit: String(few) });
  const pages = useQuery({ queryKey: key("pages", asked.toString()), queryFn: ({ signal }) => call<SitePages>(`/pages?${asked}`, { signal }) });
  if (!pages.data?.items.length) return null;
  return (
    <Side title={`On these pages of ${site}`}>
      {pages.data.items.map((p) => (
        <Text key={p.page} fontFamily="mono" fontSize="12px" overflowWrap="anywhere">
          {p.page}
          {p.staleSince !== null && " ◐ stale"}
        </Text>
      ))}
      <Link to={`/sites/${encodeURIComponent(site)}/pages?entry=${entry}`}>{pages.data.next ? "All of them" : "What they are made of"}</Link>
    </Side>
  );
}
