import "@fontsource-variable/atkinson-hyperlegible-mono/wght.css";
import "@fontsource-variable/atkinson-hyperlegible-next/wght.css";
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { StrictMode } from "react";
import { HotkeysProvider } from "react-hotkeys-hook";
import { createRoot } from "react-dom/client";
import { BrowserRouter } from "react-router";
import { App } from "./App";
import { GlobalStyle } from "./theme";

const queries = new QueryClient({ defaultOptions: { queries: { staleTime: 10_000, retry: 1 } } });

const root = document.getElementById("root");
if (!root) throw new Error("the page has no #root");
// A page of a former version of the program, whose parts are not served any more after an upgrade, is loaded anew.
window.addEventListener("vite:preloadError", () => window.location.reload());

createRoot(root).render(
  <StrictMode>
    <GlobalStyle />
    <QueryClientProvider client={queries}>
      <BrowserRouter>
        <HotkeysProvider initiallyActiveScopes={["page", "tray"]}>
          <App />
        </HotkeysProvider>
      </BrowserRouter>
    </QueryClientProvider>
  </StrictMode>,
);
