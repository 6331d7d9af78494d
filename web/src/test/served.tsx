import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { render, screen, within } from "@testing-library/react";
import { type ReactNode, useEffect } from "react";
import { MemoryRouter, useLocation } from "react-router";
import { vi } from "vitest";

type Asked = { method: string; path: string; body: unknown };
type Given = { status?: number; body: unknown };

/** A service that answers each path with what is given for it, and keeps what it was asked. */
export function serve(answers: Record<string, Given | ((asked: Asked) => Given)>) {
  const asked: Asked[] = [];
  vi.stubGlobal("fetch", async (request: Request) => {
    const path = new URL(request.url).pathname.replace("/api/v1", "");
    const text = await request.text();
    const json = request.headers.get("content-type")?.includes("json");
    const one = { method: request.method, path, body: json && text ? (JSON.parse(text) as unknown) : text };
    asked.push(one);
    const known = answers[`${request.method} ${path}`];
    const given = typeof known === "function" ? known(one) : known;
    return new Response(JSON.stringify(given?.body ?? { detail: `nothing is given for ${path}` }), {
      status: given?.status ?? (given ? 200 : 404),
      headers: { "content-type": "application/json" },
    });
  });
  return asked;
}

const shown = { address: "" };

function Here() {
  const { pathname, search } = useLocation();
  useEffect(() => {
    shown.address = pathname + search;
  });
  return null;
}

/** The address that the page shows. */
export const address = () => shown.address;

/** The one sentence that a page says first. */
export const here = () => screen.getByRole("heading", { level: 1 }).textContent;

/** The section under a heading, once it is there. */
export const section = async (of: string | RegExp) =>
  (await screen.findByRole("heading", { name: of })).closest("section")!;

/** What can be found within it. */
export const part = async (of: string | RegExp) => within(await section(of));

/** What stands in each cell of a row, and of all rows below the heads. */
export const cells = (row: Element) => [...row.querySelectorAll("td")].map((c) => c.textContent);
export const rows = () => screen.getAllByRole("row").slice(1).map(cells);

/** Draws something at an address as the console would, with queries that are not tried again. */
export function at(path: string, what: ReactNode) {
  const queries = new QueryClient({ defaultOptions: { queries: { retry: false } } });
  return {
    queries,
    ...render(
      <QueryClientProvider client={queries}>
        <MemoryRouter initialEntries={[path]}>
          {what}
          <Here />
        </MemoryRouter>
      </QueryClientProvider>,
    ),
  };
}
