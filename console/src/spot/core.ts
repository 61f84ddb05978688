/** The core in its worker, loaded when it is first needed. */

import { Failure } from "../api/client";
import type { CoreCall, Findings, FromCore, Given, Recognised } from "./protocol";

export class Core {
  private readonly worker: Worker;
  private next = 1;
  private readonly waiting = new Map<number, (out: string) => void>();
  /** Is told how much of a file is read. */
  onProgress: (path: string, total: number) => void = () => undefined;

  constructor() {
    this.worker = new Worker(new URL("./core-worker.ts", import.meta.url));
    this.worker.onmessage = (event: MessageEvent<FromCore>) => {
      const message = event.data;
      if ("id" in message) {
        this.waiting.get(message.id)?.(message.out);
        this.waiting.delete(message.id);
      } else if ("path" in message) {
        this.onProgress(message.path, message.total);
      }
    };
  }

  /** Calls a function of the core. */
  async call<T>(call: CoreCall["call"], input: unknown): Promise<T> {
    const id = this.next++;
    const out = await new Promise<string>((resolve) => {
      this.waiting.set(id, resolve);
      this.worker.postMessage({ id, call, in: typeof input === "string" ? input : JSON.stringify(input) } satisfies CoreCall);
    });
    const answer = JSON.parse(out) as T & { error?: string };
    if (answer.error) {
      throw new Failure({
        type: "about:blank",
        title: "Not read",
        status: 400,
        code: "core",
        detail: answer.error,
        advice: "“endeixis spot” and “endeixis batch run” do the same on the command line.",
      });
    }
    return answer;
  }

  gather(given: Given[]): Promise<Findings> {
    this.worker.postMessage({ files: given });
    return this.call<Findings>(
      "gather",
      given.map((g) => ({ path: g.path, size: g.file.size, mod_time: new Date(g.file.lastModified).toISOString() })),
    );
  }

  recognise(text: string): Promise<Recognised> {
    return this.call<Recognised>("recognise", text);
  }

  end() {
    this.worker.terminate();
  }
}

let shared: Core | undefined;

/** The core for all that does not read files: it stays once it is loaded. */
export function sharedCore(): Core {
  shared ??= new Core();
  return shared;
}
