import { QueryClient } from "@tanstack/react-query";
import { expect, test } from "vitest";

import { takeBatch } from "./batches";
import type { Batch } from "./client";

const batch = (state: Batch["state"]) => ({ id: 7, state }) as Batch;

test("an older answer that arrives late does not replace what was told last", async () => {
  const queries = new QueryClient();
  let answer: (b: Batch) => void = () => undefined;
  queries.setQueryData(["batch", 7], batch("measuring"));
  const asked = queries
    .query({ queryKey: ["batch", 7], queryFn: () => new Promise<Batch>((resolve) => (answer = resolve)) })
    .catch(() => undefined);
  const taken = takeBatch(queries, batch("cancelled"));
  answer(batch("measuring"));
  await Promise.all([asked, taken]);
  expect(queries.getQueryData(["batch", 7])).toEqual(batch("cancelled"));
});

test("what is asked afterwards counts", async () => {
  const queries = new QueryClient();
  await takeBatch(queries, batch("measuring"));
  await queries.query({ queryKey: ["batch", 7], queryFn: () => Promise.resolve(batch("done")), staleTime: 0 });
  expect(queries.getQueryData(["batch", 7])).toEqual(batch("done"));
});
