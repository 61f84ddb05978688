/**
 * A spot check in the browser: files are listed and measured here, judged and recorded by
 * the service. Nothing is sent of them but manifests, signatures and keys.
 */

import { batchUntil, closed } from "../api/batches";
import { api, askRaw, type Batch } from "../api/client";
import { Core } from "./core";
import {
  tellEvery,
  type Assignment,
  type FileReading,
  type FromHash,
  type Given,
  type HashTask,
  type ListingPage,
  type Submission,
} from "./protocol";
import { fastTasks } from "./tasks";

/** How far one file has come. */
export interface Row {
  path: string;
  size: number;
  read: number;
  /** Bytes a second. */
  rate: number;
  state: "waiting" | "reading" | "done" | "cancelled";
}

export interface Check {
  /** The batch, once there is one. */
  batch?: number;
  rows: Row[];
  stage: "looking" | "measuring" | "judging" | "done";
}

export interface Asked {
  given: Given[];
  /** What was pasted, or empty. */
  pasted: string;
  /** Where the files come from, for people. */
  folder: string;
  publisher?: string;
  signal: AbortSignal;
  /** Files that are not to be read any more. */
  cancelled: Set<string>;
  tell: (check: Check) => void;
}

/** The name under which what was pasted is listed. */
const pastedName = "pasted text";

const cancelledHere = "it was cancelled in the browser";

/** Verifies files, and returns the number of the batch. The core stays for drills. */
export async function verifyHere(asked: Asked): Promise<{ batch: number; core: Core }> {
  const core = new Core();
  asked.signal.addEventListener("abort", () => {
    core.end();
  });
  const given = [...asked.given];
  if (asked.pasted.trim() !== "") {
    given.push({ path: pastedName, file: new File([asked.pasted], pastedName, { lastModified: 0 }), pasted: true });
  }
  const check: Check = { rows: [], stage: "looking" };
  let told = 0;
  let stage = "";
  const tell = () => {
    // Progress is told a few times a second, a new stage at once.
    const now = performance.now();
    if (asked.signal.aborted || (stage === check.stage && now - told < tellEvery)) return;
    told = now;
    stage = check.stage;
    asked.tell({ ...check, rows: [...check.rows] });
  };
  tell();
  const listing = await core.gather(given);
  // Not given up with the check: what has begun has to be known to be ended.
  const begun = await askRaw(
    api.POST("/api/v1/batches", {
      params: { header: { "Idempotency-Key": crypto.randomUUID() } },
      body: {
        label: "spot",
        publisher: asked.publisher ?? undefined,
        measurer: { kind: "console", host: browser(), path: asked.folder || "files given to the page", software: "console" },
      },
    }),
  );
  const id = begun.id;
  check.batch = id;
  const fate = tied(id, asked.signal);
  try {
    await carryOut(begun, listing, given, core, check, tell, asked);
  } catch (error) {
    fate.end();
    throw error;
  }
  fate.release();
  check.stage = "done";
  tell();
  return { batch: id, core };
}

/** Lists the files, measures what is asked for, and waits for the verdicts. */
async function carryOut(begun: Batch, listing: ListingPage[], given: Given[], core: Core, check: Check, tell: () => void, asked: Asked) {
  const id = begun.id;
  const path = { id };
  for (const [at, page] of listing.entries()) {
    await askRaw(
      api.PUT("/api/v1/batches/{id}/listing/{page}", { params: { path: { id, page: at + 1 } }, body: page, signal: asked.signal }),
    );
  }
  await askRaw(api.POST("/api/v1/batches/{id}/listing", { params: { path }, body: { pages: listing.length }, signal: asked.signal }));
  const surveyed = await batchUntil(id, (b) => b.state !== "waiting", asked.signal);
  const assignments = closed(surveyed) ? [] : await allAssignments(id, asked.signal);
  const parts = byFile(assignments);
  const whole = new Map(given.map((g) => [g.path, g.file]));
  check.rows = [...parts.keys()].map((p) => ({ path: p, size: whole.get(p)?.size ?? 0, read: 0, rate: 0, state: "waiting" as const }));
  check.stage = "measuring";
  tell();
  await measureAll(id, parts, whole, core, check, tell, asked);
  check.stage = "judging";
  tell();
  await batchUntil(id, closed, asked.signal);
}

/**
 * Ends a batch when its check is given up or its page goes away, until it is released:
 * nobody could go on with it, for the files are known to this page alone.
 */
function tied(id: number, signal: AbortSignal): { end: () => void; release: () => void } {
  const end = () => {
    release();
    const reason: unknown = signal.reason;
    api
      .POST("/api/v1/batches/{id}/cancellation", {
        params: { path: { id } },
        body: { reason: typeof reason === "string" ? reason : "the page with the files was closed or left" },
        keepalive: true, // it has to arrive after the page is gone
      })
      .catch(() => undefined); // without a service it ends by itself, when its time is over
  };
  const release = () => {
    signal.removeEventListener("abort", end);
    removeEventListener("pagehide", end);
  };
  signal.addEventListener("abort", end);
  addEventListener("pagehide", end);
  if (signal.aborted) end();
  return { end, release };
}

/** Assignments by the file that is read for them. */
function byFile(assignments: Assignment[]): Map<string, Assignment[]> {
  const out = new Map<string, Assignment[]>();
  for (const assignment of assignments) {
    const file = assignment.file ?? assignment.target.path;
    const list = out.get(file);
    if (list) list.push(assignment);
    else out.set(file, [assignment]);
  }
  return out;
}

async function allAssignments(id: number, signal: AbortSignal): Promise<Assignment[]> {
  const out: Assignment[] = [];
  for (let cursor: string | undefined = undefined; ;) {
    const page: { items: Assignment[]; next?: string } = await askRaw(
      api.GET("/api/v1/batches/{id}/assignments", { params: { path: { id }, query: { cursor, limit: 2000 } }, signal }),
    );
    out.push(...page.items);
    if (!page.next) return out;
    cursor = page.next;
  }
}

/** Reads the files, several at once, and sends what comes of it. */
async function measureAll(
  id: number,
  parts: Map<string, Assignment[]>,
  whole: Map<string, File>,
  core: Core,
  check: Check,
  tell: () => void,
  asked: Asked,
) {
  const rows = new Map(check.rows.map((r) => [r.path, r]));
  const started = new Map<string, number>();
  const moved = (path: string, read: number) => {
    const row = rows.get(path);
    if (!row) return;
    const now = performance.now();
    if (!started.has(path)) started.set(path, now);
    row.state = "reading";
    row.read = read;
    const took = (now - (started.get(path) ?? now)) / 1000;
    row.rate = took > 0.05 ? read / took : 0;
    tell();
  };
  core.onProgress = moved;

  let waiting: Submission[] = [];
  let sent = Promise.resolve();
  let last = performance.now();
  const send = () => {
    const measured = waiting;
    waiting = [];
    last = performance.now();
    if (measured.length === 0) return;
    sent = sent.then(async () => {
      await askRaw(api.POST("/api/v1/batches/{id}/measurements", { params: { path: { id } }, body: { measured }, signal: asked.signal }));
    });
  };
  const finished = (path: string, measured: Submission[], state: Row["state"]) => {
    waiting.push(...measured);
    const row = rows.get(path);
    if (row) {
      row.state = state;
      row.read = row.size;
    }
    tell();
    if (waiting.length >= 500 || performance.now() - last > 1000) send();
  };
  const given = (assignments: Assignment[], code: "not-measured" | "unreadable", message: string): Submission[] =>
    assignments.map((c) => ({ n: c.n, reading: { size: 0, problem: { code, message } } }));

  const queue = [...parts];
  let coreTurn = Promise.resolve();
  const one = async () => {
    const hasher = new Hasher();
    for (let next = queue.shift(); next; next = queue.shift()) {
      const [path, assignments] = next;
      const stop = () => asked.cancelled.has(path);
      const file = whole.get(path);
      if (asked.signal.aborted) break;
      if (stop() || !file) {
        finished(path, given(assignments, "not-measured", cancelledHere), "cancelled");
        continue;
      }
      moved(path, 0);
      const tasks = fastTasks(assignments);
      const assignment = assignments[0];
      if (!tasks || !assignment) {
        // The core reads one file at a time.
        const mine = coreTurn.then(() => (stop() ? undefined : core.call("measure", { assignments }, stop)));
        coreTurn = mine.then(
          () => undefined,
          () => undefined,
        );
        const measured = await mine;
        if (measured) finished(path, measured.measured, "done");
        else finished(path, given(assignments, "not-measured", cancelledHere), "cancelled");
        continue;
      }
      const result = await hasher.hash(
        file,
        tasks,
        (read) => {
          moved(path, read);
        },
        () => stop() || asked.signal.aborted,
      );
      if (result === "cancelled") {
        finished(path, given(assignments, "not-measured", cancelledHere), "cancelled");
      } else if ("failed" in result) {
        finished(path, given(assignments, "unreadable", "the browser cannot read it any more: it was changed or moved"), "done");
      } else {
        const reading: FileReading = { size: result.size, results: result.digests.map((digest) => ({ digest })) };
        const why = assignment.expected.length > 0 ? await core.call("explain", { assignment, reading }) : {};
        finished(path, [{ n: assignment.n, reading, diagnoses: why.diagnoses ?? undefined }], "done");
      }
    }
    hasher.end();
  };
  const workers = Math.max(1, Math.min(4, navigator.hardwareConcurrency || 2, parts.size));
  await Promise.all(Array.from({ length: workers }, one));
  send();
  await sent;
}

type Hashed = Exclude<FromHash, { read: number }> | "cancelled";

/** A worker that hashes one file after the other. */
class Hasher {
  private worker?: Worker;

  /** Hashes a file; one that is cancelled takes the worker with it. */
  hash(file: File, tasks: HashTask[], progress: (read: number) => void, stop: () => boolean): Promise<Hashed> {
    const worker = (this.worker ??= new Worker(new URL("./hash-worker.ts", import.meta.url), { type: "module" }));
    const start = performance.now();
    return new Promise((resolve) => {
      const watch = setInterval(() => {
        if (stop()) {
          this.end();
          done("cancelled");
        }
      }, 100);
      const done = (result: Hashed) => {
        clearInterval(watch);
        // The browser's own tools show it, and benchmarks read it.
        performance.measure("a file hashed", { start });
        resolve(result);
      };
      worker.onmessage = (event: MessageEvent<FromHash>) => {
        if ("read" in event.data) {
          progress(event.data.read);
          return;
        }
        if ("failed" in event.data) this.end(); // it may still wait for bytes
        done(event.data);
      };
      worker.onerror = () => {
        this.end();
        done({ failed: "the worker ended" });
      };
      worker.postMessage({ file, tasks });
    });
  }

  end() {
    this.worker?.terminate();
    this.worker = undefined;
  }
}

/** Which browser this is, and on what, for the record. */
export function browser(agent = navigator.userAgent): string {
  const name = [
    ["Firefox/", "Firefox"],
    ["Edg/", "Edge"],
    ["Chrome/", "Chromium"],
    ["Safari/", "Safari"],
  ].find(([mark = ""]) => agent.includes(mark))?.[1];
  const system = ["Windows", "Macintosh", "Android", "iPhone", "Linux"].find((s) => agent.includes(s));
  return `${name ?? "browser"} on ${system ?? "an unknown system"}`.replaceAll(":", "-");
}

/** The files of a drop, with those in folders. */
export async function filesOf(entries: FileSystemEntry[]): Promise<Given[]> {
  const out: Given[] = [];
  const walk = async (entry: FileSystemEntry): Promise<void> => {
    if (entry.isFile) {
      const file = await new Promise<File>((resolve, reject) => {
        (entry as FileSystemFileEntry).file(resolve, reject);
      });
      out.push({ path: entry.fullPath.replace(/^\//, ""), file });
      return;
    }
    const reader = (entry as FileSystemDirectoryEntry).createReader();
    for (;;) {
      const some = await new Promise<FileSystemEntry[]>((resolve, reject) => {
        reader.readEntries(resolve, reject);
      });
      if (some.length === 0) return;
      for (const inner of some) await walk(inner);
    }
  };
  for (const entry of entries) await walk(entry);
  return withoutFolder(out);
}

/** Files of a choice. */
export function chosen(files: File[]): Given[] {
  return withoutFolder(files.map((file) => ({ path: file.webkitRelativePath || file.name, file })));
}

/** Paths inside the one folder that was given, if it was one. */
export function withoutFolder(given: Given[]): Given[] {
  const [first] = given;
  if (!first?.path.includes("/")) return given;
  const folder = first.path.slice(0, first.path.indexOf("/") + 1);
  if (!given.every((g) => g.path.startsWith(folder))) return given;
  return given.map((g) => ({ ...g, path: g.path.slice(folder.length) }));
}
