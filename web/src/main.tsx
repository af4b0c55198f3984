import "@fontsource/source-serif-4/latin-400.css";
import "@fontsource/source-serif-4/latin-600.css";
import "@fontsource/ibm-plex-mono/latin-400.css";
import "./theme.css";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { BrowserRouter } from "react-router";
import { App } from "./app";
import { applyTheme } from "./frame/theme";
import { Trouble } from "./api/client";

applyTheme();

// The service may be on this very machine: a browser that believes to be offline asks it all the same.
const networkMode = "always";

const queries = new QueryClient({
  defaultOptions: {
    mutations: { networkMode },
    queries: {
      networkMode,
      refetchOnReconnect: true,
      staleTime: 2_000,
      // What the service refused stays refused; what did not get through may.
      retry: (count, error) => !(error instanceof Trouble && error.status < 500) && count < 4,
    },
  },
});

const root = document.getElementById("root");
if (root) {
  createRoot(root).render(
    <StrictMode>
      <QueryClientProvider client={queries}>
        <BrowserRouter>
          <App />
        </BrowserRouter>
      </QueryClientProvider>
    </StrictMode>,
  );
}
