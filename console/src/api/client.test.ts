import { afterEach, expect, test, vi } from "vitest";

import { api, ask, Failure, level } from "./client";

afterEach(() => vi.unstubAllGlobals());

function answering(headers: Record<string, string>, body = '{"verdict":"cleared"}') {
  const asked: Request[] = [];
  vi.stubGlobal("fetch", (request: Request) => {
    asked.push(request);
    return Promise.resolve(new Response(body, { headers: { "Content-Type": "application/json", ...headers } }));
  });
  return asked;
}

const me = () => ask(api.GET("/api/v1/me", { baseUrl: "http://localhost/", fetch: (r) => fetch(r) }));

test("a page says which level of the API it speaks, and reads what speaks the same", async () => {
  const asked = answering({ [level.name]: level.value });
  expect(await me()).toEqual({ verdict: "cleared" });
  expect(asked[0]?.headers.get(level.name)).toBe(level.value);
  answering({});
  expect(await me()).toEqual({ verdict: "cleared" });
});

test("of a service that has become another one nothing is shown", async () => {
  answering({ [level.name]: "7" });
  const failure = await me().catch((e: unknown) => e);
  expect(failure).toBeInstanceOf(Failure);
  expect((failure as Failure).problem.code).toBe("page-outdated");
  expect((failure as Failure).problem.advice).toMatch("Load the page again");
});
