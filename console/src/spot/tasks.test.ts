import { describe, expect, it } from "vitest";

import { browser, withoutFolder } from "./check";
import type { Assignment } from "./protocol";
import { fastTasks } from "./tasks";

const assignment = (path: string, tasks: Assignment["target"]["tasks"], more: Partial<Assignment["target"]> = {}): Assignment => ({
  n: 1,
  expected: [],
  target: { path, size: 1, mod_time: "2026-01-01T00:00:00Z", tasks, ...more },
});

describe("what the fast hashes take", () => {
  it("takes digests, and hashes that begin and end with bytes of their own", () => {
    const tasks = fastTasks([assignment("a", [{ algorithm: "SHA-256" }, { algorithm: "SHA-512", before: "AQI=", after: "Aw==" }])]);
    expect(tasks?.map((t) => t.algorithm)).toEqual(["SHA-256", "SHA-512"]);
    expect(tasks?.[1]?.before).toEqual(new Uint8Array([1, 2]));
    expect(tasks?.[1]?.after).toEqual(new Uint8Array([3]));
    expect(tasks?.[0]?.before).toHaveLength(0);
  });
  it("leaves to the core what it does alone", () => {
    const member = { of: "a", member: { name: "b", size: 1 } };
    expect(fastTasks([assignment("a", [{ algorithm: "SHA-1" }])])).toBeUndefined();
    expect(fastTasks([assignment("a", [{ algorithm: "SHA-256", text: true }])])).toBeUndefined();
    expect(fastTasks([assignment("a", [{ algorithm: "SHA-256", expanded: "gzip" }])])).toBeUndefined();
    expect(fastTasks([assignment("a//b", [{ algorithm: "SHA-256" }], { inside: member })])).toBeUndefined();
    expect(fastTasks([assignment("a", [{ algorithm: "SHA-256" }]), assignment("a//b", [], { inside: member })])).toBeUndefined();
    expect(fastTasks([])).toBeUndefined();
  });
});

describe("what was given", () => {
  const file = {} as File;
  it("is named inside its one folder", () => {
    expect(
      withoutFolder([
        { path: "down/a", file },
        { path: "down/deep/b", file },
      ]).map((g) => g.path),
    ).toEqual(["a", "deep/b"]);
    expect(
      withoutFolder([
        { path: "one/a", file },
        { path: "two/a", file },
      ]).map((g) => g.path),
    ).toEqual(["one/a", "two/a"]);
    expect(withoutFolder([{ path: "a", file }]).map((g) => g.path)).toEqual(["a"]);
    expect(withoutFolder([])).toEqual([]);
  });
  it("comes from a browser with a name", () => {
    expect(browser("Mozilla/5.0 (X11; Linux x86_64) AppleWebKit/537.36 Chrome/156.0 Safari/537.36")).toBe("Chromium on Linux");
    expect(browser("Mozilla/5.0 (Windows NT 10.0; rv:130.0) Gecko/20100101 Firefox/130.0")).toBe("Firefox on Windows");
    expect(browser("?")).toBe("browser on an unknown system");
  });
});
