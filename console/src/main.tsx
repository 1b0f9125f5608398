import "@fontsource-variable/figtree";
import "@fontsource-variable/jetbrains-mono";
import { ChakraProvider } from "@chakra-ui/react";
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { lazy, StrictMode, Suspense } from "react";
import { createRoot } from "react-dom/client";
import { createBrowserRouter } from "react-router";
import { RouterProvider } from "react-router/dom";
import { Problem } from "./api";
import { AccountsPage } from "./pages/accounts";
import { AuditPage } from "./pages/audit";
import { EntriesPage } from "./pages/entries";
import { EntryPage, NewEntryPage } from "./pages/entry";
import { EventPage } from "./pages/event";
import { EventsPage } from "./pages/events";
import { KeysPage } from "./pages/keys";
import { NowPage } from "./pages/now";
import { PreviewsPage } from "./pages/previews";
import { SettingsPage } from "./pages/settings";
import { SitesPage } from "./pages/sites";
import { TypePage, TypesPage } from "./pages/types";
import { WelcomePage } from "./pages/welcome";
import { YouPage } from "./pages/you";
import { CachePage } from "./pages/cache";
import { WhyPage } from "./pages/why";
import { Shell } from "./shell";
import { system } from "./theme";

const queries = new QueryClient({
  defaultOptions: {
    queries: {
      staleTime: 2_000,
      refetchOnWindowFocus: true,
      retry: (count, error) => !(error instanceof Problem && error.status >= 400 && error.status < 500) && count < 2,
    },
  },
});

// Its editor is as large as the rest of the console.
const ExplorerPage = lazy(() => import("./pages/explorer"));

const router = createBrowserRouter(
  [
    { path: "welcome", element: <WelcomePage /> },
    {
      element: <Shell />,
      children: [
        { index: true, element: <NowPage /> },
        { path: "entries", element: <EntriesPage /> },
        { path: "entries/new", element: <NewEntryPage /> },
        { path: "entries/:id", element: <EntryPage /> },
        { path: "types", element: <TypesPage /> },
        { path: "types/:name", element: <TypePage /> },
        { path: "keys", element: <KeysPage /> },
        {
          path: "explorer",
          element: (
            <Suspense>
              <ExplorerPage />
            </Suspense>
          ),
        },
        { path: "previews", element: <PreviewsPage /> },
        { path: "you", element: <YouPage /> },
        { path: "why", element: <WhyPage /> },
        { path: "accounts", element: <AccountsPage /> },
        { path: "audit", element: <AuditPage /> },
        { path: "settings", element: <SettingsPage /> },
        { path: "events", element: <EventsPage /> },
        { path: "events/:id", element: <EventPage /> },
        { path: "sites", element: <SitesPage /> },
        { path: "cache", element: <CachePage /> },
        { path: "*", element: <NowPage /> },
      ],
    },
  ],
  { basename: "/console" },
);

createRoot(document.getElementById("root")!).render(
  <StrictMode>
    <ChakraProvider value={system}>
      <QueryClientProvider client={queries}>
        <RouterProvider router={router} />
      </QueryClientProvider>
    </ChakraProvider>
  </StrictMode>,
);
