import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { BrowserRouter } from "react-router";
import { Refused } from "./api/client";
import { App } from "./App";
import "./theme.css";

/** What was refused is not asked for again: it would be refused again. */
const again = (failed: number, error: Error) =>
  failed < 3 && !(error instanceof Refused && error.status < 500);

const queries = new QueryClient({
  defaultOptions: { queries: { staleTime: 10_000, refetchOnWindowFocus: false, retry: again } },
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
