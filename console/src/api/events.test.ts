import { expect, test } from "vitest";

import { readEvents } from "./events";

/** A stream that comes in the given parts. */
const streamOf = (...parts: string[]) =>
  new ReadableStream<Uint8Array>({
    start(out) {
      for (const part of parts) out.enqueue(new TextEncoder().encode(part));
      out.close();
    },
  });

const text = 'event: progress\ndata: {"done":1}\n\nevent: import\ndata: {"keys":["ä: b"]}\n\n';

test("events are told by their names, wherever the stream is cut", async () => {
  const bytes = new TextEncoder().encode(text);
  for (let at = 0; at <= bytes.length; at++) {
    const told: string[][] = [];
    const stream = new ReadableStream<Uint8Array>({
      start(out) {
        out.enqueue(bytes.slice(0, at));
        out.enqueue(bytes.slice(at));
        out.close();
      },
    });
    await readEvents(stream, (event, data) => told.push([event, data]));
    expect(told).toEqual([
      ["progress", '{"done":1}'],
      ["import", '{"keys":["ä: b"]}'],
    ]);
  }
});

test("a name counts for one event only, and what stops the reader stops the stream", async () => {
  const told: string[][] = [];
  await readEvents(streamOf("event: a\r\ndata: 1\r\n\r\n", "data: 2\n\n"), (event, data) => told.push([event, data]));
  expect(told).toEqual([
    ["a", "1"],
    ["", "2"],
  ]);
  await expect(
    readEvents(streamOf(text), () => {
      throw new Error("enough");
    }),
  ).rejects.toThrow("enough");
});
