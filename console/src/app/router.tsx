import { createBrowserRouter, type RouteObject } from "react-router";
import { noteNavigation } from "../lib/navigated";
import { NowPage } from "../features/now/now";
import { FailedPage, NoEnvironmentPage, NotFoundPage } from "./not-found";
import { Shell } from "./shell";

// Each page is loaded when it is first opened.
const pages: RouteObject[] = [
  { index: true, element: <NowPage /> },
  { path: "entries", lazy: async () => ({ Component: (await import("../features/entries/entries")).EntriesPage }) },
  { path: "entries/new", lazy: async () => ({ Component: (await import("../features/entries/new-entry")).NewEntryPage }) },
  { path: "entries/:id", lazy: async () => ({ Component: (await import("../features/entries/entry")).EntryPage }) },
  { path: "files", lazy: async () => ({ Component: (await import("../features/files/files")).FilesPage }) },
  { path: "files/:id", lazy: async () => ({ Component: (await import("../features/files/file")).FilePage }) },
  { path: "types", lazy: async () => ({ Component: (await import("../features/types/types")).TypesPage }) },
  { path: "types/:name", lazy: async () => ({ Component: (await import("../features/types/type")).TypePage }) },
  { path: "shapes", lazy: async () => ({ Component: (await import("../features/shapes/shapes")).ShapesPage }) },
  { path: "shapes/:name", lazy: async () => ({ Component: (await import("../features/shapes/shape")).ShapePage }) },
  { path: "keys", lazy: async () => ({ Component: (await import("../features/keys/keys")).KeysPage }) },
  { path: "explorer", lazy: async () => ({ Component: (await import("../features/explorer/explorer")).default }) },
  { path: "previews", lazy: async () => ({ Component: (await import("../features/keys/previews")).PreviewsPage }) },
  { path: "you", lazy: async () => ({ Component: (await import("../features/accounts/you")).YouPage }) },
  { path: "why", lazy: async () => ({ Component: (await import("../features/why/why")).WhyPage }) },
  { path: "accounts", lazy: async () => ({ Component: (await import("../features/accounts/accounts")).AccountsPage }) },
  { path: "audit", lazy: async () => ({ Component: (await import("../features/audit/audit")).AuditPage }) },
  { path: "settings", lazy: async () => ({ Component: (await import("../features/settings/settings")).SettingsPage }) },
  { path: "events", lazy: async () => ({ Component: (await import("../features/events/events")).EventsPage }) },
  { path: "events/:id", lazy: async () => ({ Component: (await import("../features/events/event")).EventPage }) },
  { path: "rules", lazy: async () => ({ Component: (await import("../features/rules/rules")).RulesPage }) },
  { path: "rules/:name", lazy: async () => ({ Component: (await import("../features/rules/rule")).RulePage }) },
  { path: "origins", lazy: async () => ({ Component: (await import("../features/origins/origins")).OriginsPage }) },
  { path: "origins/:name", lazy: async () => ({ Component: (await import("../features/origins/origin")).OriginPage }) },
  { path: "notifications", lazy: async () => ({ Component: (await import("../features/notifications/notifications")).NotificationsPage }) },
  { path: "secrets", lazy: async () => ({ Component: (await import("../features/notifications/secrets")).SecretsPage }) },
  { path: "sites/:site/pages", lazy: async () => ({ Component: (await import("../features/sites/pages")).SitePagesPage }) },
  { path: "sites", lazy: async () => ({ Component: (await import("../features/sites/sites")).SitesPage }) },
  { path: "cache", lazy: async () => ({ Component: (await import("../features/cache/cache")).CachePage }) },
];

const names = new Set(pages.flatMap((p) => (p.path ? [p.path.split("/")[0]] : [])));

/**
 * The pages of an environment, under /console/{environment}/. An address without an environment is
 * led to the one that is signed in to; one of another environment is not found.
 */
export function routerOf(environment: string) {
  const [, , first = ""] = location.pathname.split("/");
  if (first === "" || (first !== environment && names.has(first))) {
    history.replaceState(null, "", `/console/${environment}${location.pathname.slice("/console".length) || "/"}${location.search}${location.hash}`);
  }
  const here = location.pathname.split("/")[2] === environment;
  const router = createBrowserRouter(
    here ? [{ element: <Shell />, errorElement: <FailedPage />, hydrateFallbackElement: <></>, children: [{ errorElement: <FailedPage />, children: [...pages, { path: "*", element: <NotFoundPage /> }] }] }] : [{ path: "*", element: <NoEnvironmentPage present={environment} /> }],
    { basename: here ? "/console/" + environment : "/console" },
  );
  let shown = router.state.location.pathname;
  router.subscribe((state) => {
    if (state.location.pathname === shown) return;
    shown = state.location.pathname;
    noteNavigation();
  });
  return router;
}
