import "@fontsource-variable/atkinson-hyperlegible-next/index.css";
import "@fontsource-variable/atkinson-hyperlegible-mono/index.css";
import "./theme.scss";
import { QueryCache, QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { BrowserRouter } from "react-router";
import { App } from "./App";
import { Refusal } from "./api/client";

const queries: QueryClient = new QueryClient({
  queryCache: new QueryCache({
    onError: (e, query) => {
      // A key that was revoked ends the session.
      if (e instanceof Refusal && e.problem.status === 401 && query.queryKey[0] !== "session") void queries.resetQueries({ queryKey: ["session"] });
    },
  }),
  defaultOptions: { queries: { retry: 1, refetchInterval: 10_000, refetchOnWindowFocus: true } },
});

createRoot(document.getElementById("root")!).render(
  <StrictMode>
    <QueryClientProvider client={queries}>
      <BrowserRouter>
        <App />
      </BrowserRouter>
    </QueryClientProvider>
  </StrictMode>,
);
