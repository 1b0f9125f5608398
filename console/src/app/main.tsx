import "@fontsource-variable/figtree";
import "@fontsource-variable/jetbrains-mono";
import { ChakraProvider } from "@chakra-ui/react";
import { lazy, StrictMode, Suspense, useState } from "react";
import { createRoot } from "react-dom/client";
import { RouterProvider } from "react-router/dom";
import { unsavedNow } from "../lib/unsaved";
import { system } from "../ui/theme";
import { routerOf } from "./router";
import { Session } from "./session";

const Welcome = lazy(async () => ({ default: (await import("../features/accounts/welcome")).WelcomePage }));

function Pages({ environment }: { environment: string }) {
  const [router] = useState(() => routerOf(environment));
  return <RouterProvider router={router} />;
}

// After an upgrade the parts of this page that are not loaded yet are gone. Drafts of entries and
// of the model survive a reload, and what would not is asked about by the browser.
addEventListener("vite:preloadError", () => {
  if (!unsavedNow()) location.reload();
});

createRoot(document.getElementById("root")!).render(
  <StrictMode>
    <ChakraProvider value={system}>
      {location.pathname === "/console/welcome" ? (
        <Suspense>
          <Welcome />
        </Suspense>
      ) : (
        <Session>{(who) => <Pages environment={who.environment} />}</Session>
      )}
    </ChakraProvider>
  </StrictMode>,
);

// Letters beyond Latin, for machines without a font that has them. Each part is fetched only when
// a page shows one of its letters.
void import("@fontsource-variable/noto-sans-jp");
