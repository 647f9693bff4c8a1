import { QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { cleanup, render, waitFor } from "@testing-library/react";
import type { ReactNode } from "react";
import { MemoryRouter, Route, Routes } from "react-router";
import { afterEach, beforeEach, expect, vi } from "vitest";
import answers from "./answers.json";

/** A request that a page made. */
export type Asked = { method: string; path: string; query: URLSearchParams; body: unknown; header: Headers };

/** What answers a request: the value of a success, or a status with a problem document. */
export type Reply = unknown | { status: number; detail: string };

/** Says that something goes wrong. */
export const refused = (status: number, detail: string) => ({ status, detail });

const isProblem = (r: Reply): r is { status: number; detail: string } =>
  typeof r === "object" && r !== null && "detail" in r && "status" in r && typeof r.status === "number";

/**
 * Stands in for the service. Whatever a test does not say is answered as the service answered of a small company
 * (answers.json, which internal/api keeps true). The keys of say are a method and a path below /api/v1, such as
 * "POST orders/actions"; without a method, GET is meant.
 */
export function service(say: Record<string, Reply | ((asked: Asked) => Reply)> = {}): Asked[] {
  const asked: Asked[] = [];
  const known = answers as Record<string, unknown>;
  vi.stubGlobal("fetch", async (input: Request | string, init?: RequestInit) => {
    const request = input instanceof Request ? input : new Request(new URL(input, location.origin), init);
    const url = new URL(request.url);
    const path = decodeURIComponent(url.pathname.replace(/^\/api\/v1\//, ""));
    const text = await request.text();
    let body: unknown = text;
    try {
      body = text ? JSON.parse(text) : undefined;
    } catch {
      // a file
    }
    const one = { method: request.method, path, query: url.searchParams, body, header: request.headers };
    asked.push(one);
    const key = request.method === "GET" ? path : `${request.method} ${path}`;
    let reply: Reply = key in say ? say[key] : request.method === "GET" ? known[path] : {};
    if (typeof reply === "function") reply = (reply as (asked: Asked) => Reply)(one);
    if (reply === undefined) reply = refused(404, `There is no answer to ${key}.`);
    const status = isProblem(reply) ? reply.status : 200;
    return new Response(JSON.stringify(reply), { status, headers: { "Content-Type": "application/json" } });
  });
  return asked;
}

/** Answers of the service, to be changed a little by a test. */
export const answer = <T = Record<string, unknown>,>(path: keyof typeof answers): T => structuredClone(answers[path]) as T;

/** Draws a page at an address; route is the form of the address, such as /orders/:number. */
export function open(page: ReactNode, at = "/", route = "*") {
  const client = new QueryClient({ defaultOptions: { queries: { retry: false }, mutations: { retry: false } } });
  return render(
    <QueryClientProvider client={client}>
      <MemoryRouter initialEntries={[at]}>
        <Routes>
          <Route path={route} element={page} />
          <Route path="*" element={<p>another page</p>} />
        </Routes>
      </MemoryRouter>
    </QueryClientProvider>,
  );
}

/** Draws each page of a file of tests on a clean sheet, with what jsdom does not have. */
export function onACleanPage() {
  beforeEach(() => {
    localStorage.clear();
    vi.stubGlobal("scrollTo", () => undefined);
    vi.stubGlobal(
      "ResizeObserver",
      class {
        observe() {}
        unobserve() {}
        disconnect() {}
      },
    );
  });
  afterEach(cleanup);
}

/** The requests that were to change something. */
export const changes = (asked: Asked[]) => asked.filter((a) => a.method !== "GET");

/** Waits until the page says a text. */
export const said = (text: string) => waitFor(() => expect(document.body.textContent).toContain(text));

/** Who is signed in, of a role, with some of what it may do. */
export const as = (role: "clerk" | "viewer") => ({
  ...answer("me"),
  role,
  may: role === "viewer" ? ["look"] : ["look", "buyers", "hand-over", "ship", "stock", "orders", "purchasing", "catalog", "feeds"],
});
