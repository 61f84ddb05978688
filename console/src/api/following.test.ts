import { afterEach, beforeEach, expect, test, vi } from "vitest";

import { Problem, serve } from "../testing/service";
import { batchUntil } from "./batches";
import type { Batch } from "./client";

/** A stream of events that the test sends. */
class Events extends EventTarget {
  static readonly CLOSED = 2;
  static streams: Events[] = [];
  readyState = 1;
  constructor(readonly url: string) {
    super();
    Events.streams.push(this);
  }
  close() {
    this.readyState = Events.CLOSED;
  }
  batch(state: Batch["state"], record?: number) {
    this.dispatchEvent(new MessageEvent("batch", { data: JSON.stringify({ id: 7, state, record }) }));
  }
  /** The stream ends for good. */
  refuse() {
    this.close();
    this.dispatchEvent(new Event("error"));
  }
}

const measuring = (b: Batch) => b.state === "measuring";
const last = () => Events.streams.at(-1) ?? new Events("none");

beforeEach(() => {
  Events.streams = [];
  vi.stubGlobal("EventSource", Events);
});
afterEach(() => {
  vi.unstubAllGlobals();
});

test("a batch is waited for until it is as wanted, and is followed no longer", async () => {
  const wanted = batchUntil(7, measuring, new AbortController().signal);
  expect(last().url).toBe("/api/v1/batches/7/events");
  last().batch("waiting");
  expect(last().readyState).toBe(1);
  last().batch("measuring");
  await expect(wanted).resolves.toMatchObject({ state: "measuring" });
  expect(last().readyState).toBe(Events.CLOSED);
});

test("a batch that is closed before it is as wanted is told as it is", async () => {
  const wanted = batchUntil(7, measuring, new AbortController().signal);
  last().batch("failed", 12);
  await expect(wanted).resolves.toMatchObject({ state: "failed", record: 12 });
});

test("who gives up waits no longer", async () => {
  const given = new AbortController();
  const wanted = batchUntil(7, measuring, given.signal);
  given.abort("left");
  await expect(wanted).rejects.toThrow("left");
  expect(last().readyState).toBe(Events.CLOSED);
  await expect(batchUntil(7, measuring, given.signal)).rejects.toThrow("left");
  expect(Events.streams).toHaveLength(1);
});

test("a batch that cannot be followed is asked for, and followed again", async () => {
  vi.useFakeTimers({ toFake: ["setTimeout"] });
  try {
    const asked = serve({ "GET /batches/7": { id: 7, state: "waiting" } });
    const wanted = batchUntil(7, measuring, new AbortController().signal);
    last().refuse();
    await vi.waitFor(() => {
      vi.advanceTimersByTime(1000);
      expect(Events.streams).toHaveLength(2);
    });
    expect(asked.map((a) => a.what)).toEqual(["GET /batches/7"]);
    last().batch("measuring");
    await expect(wanted).resolves.toMatchObject({ state: "measuring" });
  } finally {
    vi.useRealTimers();
  }
});

test("what the service says of a batch that cannot be followed is what it fails with", async () => {
  serve({ "GET /batches/7": new Problem(403, "You may not see it.") });
  const wanted = batchUntil(7, measuring, new AbortController().signal);
  last().refuse();
  await expect(wanted).rejects.toThrow("You may not see it.");
});
