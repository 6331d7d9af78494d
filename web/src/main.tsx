import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { BrowserRouter } from "react-router";
import { Refused } from "./api/client";
import { meQuery } from "./api/queries";
import { App } from "./App";
import { prefetch, prefetchLinks } from "./places";
import "./theme.css";

/** What was refused is not asked for again: it would be refused again. */
const again = (failed: number, error: Error) =>
  failed < 3 && !(error instanceof Refused && error.status < 500);

const queries = new QueryClient({
  defaultOptions: { queries: { staleTime: 10_000, refetchOnWindowFocus: false, retry: again } },
});

document.addEventListener("pointerover", prefetchLinks);
document.addEventListener("focusin", prefetchLinks);

// Who asks and the page's code are fetched side by side, before anything is drawn.
const { pathname } = window.location;
if (pathname !== "/sign-in") void queries.prefetchQuery(meQuery);
void prefetch(pathname).then(() =>
  createRoot(document.getElementById("root")!).render(
    <StrictMode>
      <QueryClientProvider client={queries}>
        <BrowserRouter>
          <App />
        </BrowserRouter>
      </QueryClientProvider>
    </StrictMode>,
  ),
);
