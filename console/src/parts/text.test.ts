import { describe, expect, it } from "vitest";

import { base64, bytes, count, day, groups, harmless, harmlessAll, moment, unbase64 } from "./text";

describe("sizes", () => {
  it.each([
    [0, "0 B"],
    [1023, "1023 B"],
    [1024, "1.0 KiB"],
    [1536, "1.5 KiB"],
    [5 * 2 ** 30, "5.0 GiB"],
    [2 ** 50, "1024.0 TiB"],
  ])("%d is %s", (n, text) => {
    expect(bytes(n)).toBe(text);
  });
});

describe("times", () => {
  it("are told in the reader's zone, to the minute", () => {
    const local = new Date(2026, 2, 4, 5, 6);
    expect(moment(local.toISOString())).toBe("2026-03-04 05:06");
  });
  it("have a day", () => {
    expect(day("2026-03-04T23:59:59Z")).toBe("2026-03-04");
  });
});

describe("hexadecimal", () => {
  it("is grouped by four, in capitals", () => {
    expect(groups("0123456789ab")).toEqual(["0123", "4567", "89AB"]);
  });
  it("keeps what is left over", () => {
    expect(groups("01234")).toEqual(["0123", "4"]);
    expect(groups("")).toEqual([]);
  });
});

describe("counts", () => {
  it("know one from many", () => {
    expect(count(1, "artifact")).toBe("1 artifact");
    expect(count(0, "artifact")).toBe("0 artifacts");
    expect(count(2, "entry", "entries")).toBe("2 entries");
  });
});

describe("base64", () => {
  it("carries every byte", () => {
    const all = Uint8Array.from({ length: 256 }, (_, i) => i);
    expect(Uint8Array.from(atob(base64(all)), (c) => c.charCodeAt(0))).toEqual(all);
  });
});

describe("texts from outside", () => {
  it.each([
    ["gauge-fw-4.2-main.img", "gauge-fw-4.2-main.img"],
    ["Søren Ødegård, 東京, 🔑", "Søren Ødegård, 東京, 🔑"],
    ["evil\u202egmi.exe", "evil\\u{202e}gmi.exe"],
    ["a\u2066b\u2069c\u200bd\ufeff", "a\\u{2066}b\\u{2069}c\\u{200b}d\\u{feff}"],
    ["no\u00a0break", "no\\u{00a0}break"],
    ["esc\u001b[31m", "esc\\u{001b}[31m"],
    ["\u{e0041}tag", "\\u{e0041}tag"],
    ["two\nlines\tand a tab", "two\nlines\tand a tab"],
  ])("%j shows as %j", (text, shown) => {
    expect(harmless(text)).toBe(shown);
  });
  it("are found wherever they stand, and paths are kept for asking", () => {
    expect(harmlessAll({ items: [{ name: "a\u202eb", path: "a\u202eb", n: 3, no: null }], "k\u202e": true })).toEqual({
      items: [{ name: "a\\u{202e}b", path: "a\u202eb", n: 3, no: null }],
      "k\\u{202e}": true,
    });
  });
});

describe("bytes as text", () => {
  it("come back as they were", () => {
    const all = Uint8Array.from({ length: 256 }, (_, i) => i);
    expect(unbase64(base64(all))).toEqual(all);
  });
});
