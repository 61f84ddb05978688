import { expect, test } from "vitest";
import { pieces } from "./pieces";

const content = new Uint8Array((3 << 20) + 17).map((_, i) => (i * 7) ^ (i >> 9));

const same = (a: Uint8Array, b: Uint8Array) => a.length === b.length && a.every((byte, i) => byte === b[i]);

async function joined(file: Blob): Promise<Uint8Array> {
  const out = new Uint8Array(content.length);
  let at = 0;
  for await (const piece of pieces(file)) {
    out.set(piece, at);
    at += piece.length;
  }
  return out.subarray(0, at);
}

test("pieces are the whole file, in order", async () => {
  expect(same(await joined(new Blob([content])), content)).toBe(true);
  expect(await joined(new Blob([]))).toHaveLength(0);
});

test("a browser whose streams take no buffer of ours reads the same", async () => {
  const file = new Blob([content]);
  file.stream = () =>
    new ReadableStream<Uint8Array<ArrayBuffer>>({
      start(controller) {
        for (let at = 0; at < content.length; at += 100_000) controller.enqueue(content.slice(at, at + 100_000));
        controller.close();
      },
    });
  expect(same(await joined(file), content)).toBe(true);
});

test("a file that cannot be read to its end is not taken for a shorter one", async () => {
  for (const type of [undefined, "bytes"] as const) {
    const file = new Blob([]);
    let pulled = 0;
    file.stream = () =>
      new ReadableStream({
        type: type as undefined,
        pull(controller) {
          if (pulled++ > 2) controller.error(new Error("it was moved"));
          else controller.enqueue(new Uint8Array(1000));
        },
      });
    await expect(joined(file)).rejects.toThrow("it was moved");
  }
});
