/** The core of the product, compiled for browsers, in a worker of its own. */

import execURL from "../../core/wasm_exec.js?url";
import coreURL from "../../core/core.wasm?url";
import { tellEvery, type FromCore, type ToCore } from "./protocol";

interface Scope {
  importScripts: (url: string) => void;
  postMessage: (message: FromCore) => void;
  onmessage: ((event: MessageEvent<ToCore>) => void) | null;
  Go: new () => { importObject: WebAssembly.Imports; run: (instance: WebAssembly.Instance) => Promise<void> };
  FileReaderSync: new () => { readAsArrayBuffer: (blob: Blob) => ArrayBuffer };
  endeixis: Record<string, (input: string) => Promise<string>>;
  endeixisReady: () => void;
  endeixisRead: (path: string, at: number, length: number) => Uint8Array | null;
  endeixisProgress: (path: string, total: number) => void;
}

const scope = globalThis as unknown as Scope;
const files = new Map<string, File>();

// The core asks for small pieces one after the other; more of the file is read at once.
const ahead = 4 << 20;
let kept = { path: "", at: 0, bytes: new Uint8Array() };

scope.endeixisRead = (path, at, length) => {
  const file = files.get(path);
  if (!file) return null;
  const here = kept.path === path && at >= kept.at && at + length <= kept.at + kept.bytes.length;
  if (!here) {
    try {
      const blob = file.slice(at, Math.min(file.size, at + Math.max(length, ahead)));
      kept = { path, at, bytes: new Uint8Array(new scope.FileReaderSync().readAsArrayBuffer(blob)) };
    } catch {
      return null; // it was changed or moved since it was given
    }
  }
  return kept.bytes.subarray(at - kept.at, at - kept.at + length);
};

let told = 0;
scope.endeixisProgress = (path, total) => {
  const now = performance.now();
  if (now - told < tellEvery) return;
  told = now;
  scope.postMessage({ path, total });
};

const ready = new Promise<void>((resolve) => {
  scope.endeixisReady = resolve;
});

scope.onmessage = (event) => {
  const message = event.data;
  if ("files" in message) {
    files.clear();
    for (const given of message.files) files.set(given.path, given.file);
    return;
  }
  void ready.then(async () => {
    const f = scope.endeixis[message.call];
    scope.postMessage({ id: message.id, out: f ? await f(message.in) : '{"error": "there is no such function"}' });
  });
};

async function start() {
  scope.importScripts(execURL);
  const go = new scope.Go();
  const { instance } = await WebAssembly.instantiateStreaming(fetch(coreURL), go.importObject);
  void go.run(instance);
  await ready;
  scope.postMessage({ ready: true });
}

void start();
