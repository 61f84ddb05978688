import { expect, test } from "vitest";

import { madeOf } from "./made";
import type { Reading } from "../../api/client";

const digest = "9f86d081884c7d659a2feaa0c55ad015a3bf4f1b2b0b822cd15d6c15b0f00a08";

const reading = (r: Partial<Reading>): Reading => ({
  format: "mixed",
  entries: [],
  problems: [],
  more_problems: 0,
  left_aside: [],
  more_left_aside: 0,
  cut: false,
  ...r,
});

const entry = (line: number) =>
  ({ name: "gauge.bin", algorithm: "SHA-256", candidates: ["SHA-256"], digest, size: null, line }) as Reading["entries"][number];

test("values, problems and what was left aside are told apart", () => {
  const text = `Größe ${digest.toUpperCase()}  gauge.bin\r\nbroken\r\n\r\nbuilt from ä ${digest}`;
  const lines = madeOf(
    text,
    reading({
      entries: [entry(1)],
      problems: [{ line: 2, code: "bad-digest", message: "it is cut" }],
      left_aside: [{ line: 4, column: 15, length: 64, text: digest, why: "nothing names it" }],
    }),
  );
  expect(lines.map((l) => l?.parts.map((p) => [p.made, p.text]))).toEqual([
    [
      ["", "Größe "],
      ["read", digest.toUpperCase()],
      ["", "  "],
      ["read", "gauge.bin"],
    ],
    [["problem", "broken"]],
    [["", ""]],
    [
      ["", "built from ä "],
      ["left", digest],
    ],
  ]);
});

test("a value in groups marks its line", () => {
  const grouped = digest.replaceAll(/(.{8})/g, "$1 ").trim();
  expect(madeOf(`gauge.bin: ${grouped}`, reading({ entries: [entry(1)] }))[0]?.parts).toEqual([
    { text: `gauge.bin: ${grouped}`, made: "read", why: "read" },
  ]);
});

test("a value that goes on below marks its lines", () => {
  const lines = madeOf(`gauge.bin:\n${digest.slice(0, 32)}\n${digest.slice(32)}\nbye`, reading({ entries: [entry(2)] }));
  expect(lines.map((l) => l?.parts.map((p) => p.made))).toEqual([[""], ["read"], ["read"], [""]]);
});

test("what nothing was made of is folded", () => {
  const text = ["one", "two", "three", `${digest}  gauge.bin`, "five", "six", "seven", "eight"].join("\n");
  expect(madeOf(text, reading({ entries: [entry(4)] })).map((l) => l?.no)).toEqual([undefined, 3, 4, 5, undefined]);
});

test("the lines that are drawn are bounded", () => {
  const text = Array.from({ length: 50 }, () => `${digest}  gauge.bin`).join("\n");
  const entries = Array.from({ length: 50 }, (_, i) => entry(i + 1));
  expect(madeOf(text, reading({ entries }), 10)).toHaveLength(11);
});
