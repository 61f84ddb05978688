import { expect, test } from "vitest";

import { marked, reasons, type Mark } from "./marked";

const digest = "9f86d081884c7d659a2feaa0c55ad015a3bf4f1b2b0b822cd15d6c15b0f00a08";

/** The mark of the first place of a part in a text. */
function at(text: string, part: string, made: Mark["made"], why = ""): Mark {
  const start = new TextEncoder().encode(text.slice(0, text.indexOf(part))).length;
  return { start, end: start + new TextEncoder().encode(part).length, made, why };
}

const told = (lines: ReturnType<typeof marked>) => lines.map((l) => l?.parts.map((p) => [p.made, p.text]));

test("values, problems and what was left aside are told apart", () => {
  const text = `Größe ${digest}  gauge.bin\r\nbroken\r\n\r\nbuilt from ä 3b18e512`;
  const marks = [at(text, digest, "read"), at(text, "broken", "problem", "it is cut"), at(text, "3b18e512", "left", "nothing names it")];
  expect(told(marked(text, marks))).toEqual([
    [
      ["", "Größe "],
      ["read", digest],
      ["", "  gauge.bin"],
    ],
    [["problem", "broken"]],
    [["", ""]],
    [
      ["", "built from ä "],
      ["left", "3b18e512"],
    ],
  ]);
});

test("a value over several lines is marked in each", () => {
  const text = `SHA-256:\n  ${digest.slice(0, 32)}\n  ${digest.slice(32)}\nend`;
  const start = text.indexOf("9f86");
  const marks: Mark[] = [{ start, end: text.indexOf("\nend"), made: "read", why: "" }];
  expect(told(marked(text, marks))).toEqual([
    [["", "SHA-256:"]],
    [
      ["", "  "],
      ["read", digest.slice(0, 32)],
    ],
    [["read", `  ${digest.slice(32)}`]],
    [["", "end"]],
  ]);
});

test("lines of which nothing was made are folded", () => {
  const text = ["a", "b", "c", "d", digest, "e", "f", "g"].join("\n");
  expect(marked(text, [at(text, digest, "read")]).map((l) => l?.no)).toEqual([undefined, 4, 5, 6, undefined]);
});

test("letters beyond one unit are counted in bytes", () => {
  const text = `📦 ${digest}`;
  expect(told(marked(text, [at(text, digest, "read")]))).toEqual([
    [
      ["", "📦 "],
      ["read", digest],
    ],
  ]);
});

test("reasons are told once, with their lines", () => {
  const text = `broken\n${digest}\ncut\nbuilt from 3b18e512`;
  const marks = [
    at(text, "broken", "problem", "it is cut"),
    at(text, digest, "read", "read"),
    at(text, "cut", "problem", "it is cut"),
    at(text, "3b18e512", "left", "nothing names it"),
  ];
  expect(reasons(text, marks)).toEqual([
    { why: "it is cut", lines: [1, 3] },
    { why: "nothing names it", lines: [4] },
  ]);
});
