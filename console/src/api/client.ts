import createClient from "openapi-fetch";
import type { components, paths } from "./schema";

/** What the service answered when it could not do what was asked (RFC 9457). */
export class Problem extends Error {
  constructor(
    readonly status: number,
    readonly detail: string,
    readonly expected?: string,
    /** What of the request was wrong, such as body.code. */
    readonly about: string[] = [],
  ) {
    super(detail);
  }
}

/** The service is where the page came from; fetch is looked up when it is needed. */
export const api = createClient<paths>({ baseUrl: globalThis.location?.origin ?? "", fetch: (request) => fetch(request) });

export type Schema<K extends keyof components["schemas"]> = components["schemas"][K];

type Answer<T> = { data?: T; error?: unknown; response: Response };

/** Unwraps an answer, or throws the problem in it. */
export async function take<T>(call: Promise<Answer<T>>): Promise<T> {
  return (await takeWith(call)).data;
}

/** The same with the query of the next page, read from the Link header. */
export async function takeWith<T>(call: Promise<Answer<T>>): Promise<{ data: T; next?: string }> {
  let answer: Answer<T>;
  try {
    answer = await call;
  } catch {
    throw new Problem(0, "The service does not answer. Nothing was changed; try again when it is back.");
  }
  const { data, error, response } = answer;
  if (error !== undefined || !response.ok) {
    const p = (error ?? {}) as { detail?: string; errors?: { message?: string; location?: string }[] };
    const expected = p.errors?.find((e) => e.location === "expected")?.message;
    throw new Problem(
      response.status,
      p.detail ?? `The service answered ${response.status}.`,
      expected,
      (p.errors ?? []).map((e) => e.location ?? ""),
    );
  }
  const link = response.headers.get("Link")?.match(/<([^>]*)>/)?.[1];
  return { data: data as T, next: link ? new URL(link, location.origin).search.slice(1) : undefined };
}
