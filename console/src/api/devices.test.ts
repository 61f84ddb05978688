import { describe, expect, it } from "vitest";

import { againstOf } from "./devices";

describe("what a slot is held against", () => {
  it.each([
    ["", undefined],
    ["812", { record: 812 }],
    ["record 812", { record: 812 }],
    ["record:812", { record: 812 }],
    ["quayside:tidewright/gauge-fw-4.2/main.img", { depot: "quayside", path: "tidewright/gauge-fw-4.2/main.img" }],
    ["E3B0 C442 98FC", { digest: "e3b0c44298fc" }],
    ["  e3b0c442  ", { digest: "e3b0c442" }],
  ])("%s", (text, given) => {
    expect(againstOf(text)).toEqual(given);
  });
});
