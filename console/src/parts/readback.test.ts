import { describe, expect, it } from "vitest";

import { cells } from "./readback";

describe("the map of a medium", () => {
  it("draws what is not as it should be, parts that go on as one", () => {
    expect(cells("====", 400)).toEqual([]);
    expect(cells("=x!=x", 500)).toEqual([
      { offset: 100, length: 200 },
      { offset: 400, length: 100 },
    ]);
    expect(cells("x", 10)).toEqual([{ offset: 0, length: 10 }]);
    expect(cells("", 10)).toEqual([]);
  });
});
