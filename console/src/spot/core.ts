/** The core in its worker, loaded when it is first needed. */

import { Failure } from "../api/client";
import type { Answers, CoreCall, CoreFunction, FromCore, Given, ListingPage, Recognised, Takes } from "./protocol";

export class Core {
  private worker: Worker | undefined = this.started();
  private next = 1;
  private readonly waiting = new Map<number, { call: CoreCall; resolve: (out: string) => void }>();
  private given: Given[] = [];
  /** Is told how much of a file is read. */
  onProgress: (path: string, total: number) => void = () => undefined;

  private started(): Worker {
    const worker = new Worker(new URL("./core-worker.ts", import.meta.url));
    worker.onmessage = (event: MessageEvent<FromCore>) => {
      const message = event.data;
      if ("id" in message) {
        this.waiting.get(message.id)?.resolve(message.out);
        this.waiting.delete(message.id);
      } else if ("path" in message) {
        this.onProgress(message.path, message.total);
      }
    };
    return worker;
  }

  /** Another worker, which knows the files. */
  private anew(): Worker {
    const worker = this.started();
    worker.postMessage({ files: this.given });
    worker.postMessage({ id: 0, call: "hold", in: JSON.stringify(this.held()) } satisfies CoreCall);
    return worker;
  }

  /**
   * Calls a function of the core. A call that is given up, which stop is asked for now and
   * then, gives undefined. The core cannot be interrupted: another takes its place, and does
   * what else was asked for.
   */
  async call<F extends CoreFunction>(call: F, input: Takes<F>): Promise<Answers<F>>;
  async call<F extends CoreFunction>(call: F, input: Takes<F>, stop: () => boolean): Promise<Answers<F> | undefined>;
  async call<F extends CoreFunction>(call: F, input: Takes<F>, stop?: () => boolean): Promise<Answers<F> | undefined> {
    const id = this.next++;
    let watch: ReturnType<typeof setInterval> | undefined;
    const out = await new Promise<string | undefined>((resolve) => {
      const asked: CoreCall = { id, call, in: JSON.stringify(input) };
      this.waiting.set(id, { call: asked, resolve });
      (this.worker ??= this.anew()).postMessage(asked);
      if (!stop) return;
      watch = setInterval(() => {
        if (!stop() || !this.waiting.delete(id)) return;
        resolve(undefined);
        this.worker?.terminate();
        this.worker = this.anew();
        for (const other of this.waiting.values()) this.worker.postMessage(other.call);
      }, 100);
    });
    clearInterval(watch);
    if (out === undefined) return undefined;
    const answer = JSON.parse(out) as Answers<F> & { error?: string };
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

  /** Looks at files, and returns what there is to know of them in pages for the service. */
  async gather(given: Given[]): Promise<ListingPage[]> {
    this.given = given;
    (this.worker ??= this.started()).postMessage({ files: given });
    const { pages } = await this.call("gather", this.held());
    if (given.length > many && this.waiting.size === 0) this.end();
    return pages;
  }

  private held(): Takes<"hold"> {
    return {
      files: this.given.map((g) => ({
        path: g.path,
        size: g.file.size,
        mod_time: new Date(g.file.lastModified).toISOString(),
        pasted: g.pasted,
      })),
    };
  }

  recognise(text: string): Promise<Recognised> {
    return this.call("recognise", { text });
  }

  /** Gives its memory back. Whoever calls it again has another started. */
  end() {
    this.worker?.terminate();
    this.worker = undefined;
  }
}

/** From how many files on the core does not wait for what it may be asked next. */
const many = 1000;

let shared: Core | undefined;

/** The core for all that does not read files: it stays once it is loaded. */
export function sharedCore(): Core {
  shared ??= new Core();
  return shared;
}
