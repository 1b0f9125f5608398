import "@fontsource-variable/figtree";
import "@fontsource-variable/jetbrains-mono";
import { ChakraProvider } from "@chakra-ui/react";
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { createBrowserRouter } from "react-router";
import { RouterProvider } from "react-router/dom";
import { Problem } from "./api";
import { NotFoundPage, FailedPage } from "./pages/not-found";
import { NowPage } from "./pages/now";
import { WelcomePage } from "./pages/welcome";
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

const router = createBrowserRouter(
  [
    { path: "welcome", element: <WelcomePage /> },
    {
      element: <Shell />,
      children: [
        {
          errorElement: <FailedPage />,
          children: [
            { index: true, element: <NowPage /> },
            { path: "entries", lazy: async () => ({ Component: (await import("./pages/entries")).EntriesPage }) },
            { path: "entries/new", lazy: async () => ({ Component: (await import("./pages/entry")).NewEntryPage }) },
            { path: "entries/:id", lazy: async () => ({ Component: (await import("./pages/entry")).EntryPage }) },
            { path: "types", lazy: async () => ({ Component: (await import("./pages/types")).TypesPage }) },
            { path: "types/:name", lazy: async () => ({ Component: (await import("./pages/types")).TypePage }) },
            { path: "keys", lazy: async () => ({ Component: (await import("./pages/keys")).KeysPage }) },
            { path: "explorer", lazy: async () => ({ Component: (await import("./pages/explorer")).default }) },
            { path: "previews", lazy: async () => ({ Component: (await import("./pages/previews")).PreviewsPage }) },
            { path: "you", lazy: async () => ({ Component: (await import("./pages/you")).YouPage }) },
            { path: "why", lazy: async () => ({ Component: (await import("./pages/why")).WhyPage }) },
            { path: "accounts", lazy: async () => ({ Component: (await import("./pages/accounts")).AccountsPage }) },
            { path: "audit", lazy: async () => ({ Component: (await import("./pages/audit")).AuditPage }) },
            { path: "settings", lazy: async () => ({ Component: (await import("./pages/settings")).SettingsPage }) },
            { path: "events", lazy: async () => ({ Component: (await import("./pages/events")).EventsPage }) },
            { path: "events/:id", lazy: async () => ({ Component: (await import("./pages/event")).EventPage }) },
            { path: "sites", lazy: async () => ({ Component: (await import("./pages/sites")).SitesPage }) },
            { path: "cache", lazy: async () => ({ Component: (await import("./pages/cache")).CachePage }) },
            { path: "*", element: <NotFoundPage /> },
          ],
        },
      ],
    },
  ],
  { basename: "/console" },
);

// After an upgrade the parts of this page that are not loaded yet are gone. Drafts survive a reload.
addEventListener("vite:preloadError", () => location.reload());

createRoot(document.getElementById("root")!).render(
  <StrictMode>
    <ChakraProvider value={system}>
      <QueryClientProvider client={queries}>
        <RouterProvider router={router} />
      </QueryClientProvider>
    </ChakraProvider>
  </StrictMode>,
);
