import { describe, expect, it } from "vitest";
import { Problem, take, takeWith } from "./client";

const answer = (status: number, body: { data?: unknown; error?: unknown }, headers: Record<string, string> = {}) =>
  Promise.resolve({ ...body, response: new Response(null, { status, headers }) });

describe("answers", () => {
  it("are unwrapped", async () => expect(await take(answer(200, { data: { n: 1 } }))).toEqual({ n: 1 }));

  it("that are none say that nothing was changed", async () => {
    const lost = take(Promise.reject(new TypeError("Failed to fetch")));
    await expect(lost).rejects.toMatchObject({ status: 0, detail: expect.stringContaining("Nothing was changed") as string });
  });

  it("that refuse are problems with what was expected", async () => {
    const refused = take(answer(422, { error: { detail: "does not fit", errors: [{ location: "expected", message: "a carton" }] } }));
    await expect(refused).rejects.toEqual(new Problem(422, "does not fit", "a carton", ["expected"]));
    await expect(refused).rejects.toMatchObject({ status: 422, expected: "a carton" });
  });

  it("without words tell their number", async () => {
    await expect(take(answer(503, {}))).rejects.toMatchObject({ detail: "The service answered 503." });
  });

  it("lead to the next page", async () => {
    const page = await takeWith(answer(200, { data: [] }, { Link: '</api/v1/orders?after=7&limit=50>; rel="next"' }));
    expect(page.next).toBe("after=7&limit=50");
    expect((await takeWith(answer(200, { data: [] }))).next).toBeUndefined();
  });
});
