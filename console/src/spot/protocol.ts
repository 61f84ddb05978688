/** What goes between the page and its workers. */

import type { components } from "../api/types";
import type { components as core, paths } from "./core-types";

/** How often it is told how far reading has come, in milliseconds. */
export const tellEvery = 250;

export type Assignment = components["schemas"]["Assignment"];
export type FileReading = components["schemas"]["FileReading"];
export type Submission = components["schemas"]["Submission"];
export type DrillAssignment = components["schemas"]["DrillAssignment"];

/** A page of what the core found of the files, as the service takes it. */
export type ListingPage = core["schemas"]["Findings"];

/** What a pasted text is. */
export type Recognised = core["schemas"]["Recognised"];

/** A file that was given to the page, by its path in what was given. */
export interface Given {
  path: string;
  file: File;
  /** Set for a text that was pasted: it is held against the files, whatever it looks like. */
  pasted?: boolean;
}

/** A function of the core, with what it takes and what it answers. */
export type CoreFunction = keyof { [Path in keyof paths as Path extends `/${infer Name}` ? Name : never]: true };
type Operation<F extends CoreFunction> = paths[`/${F}`]["post"];
export type Takes<F extends CoreFunction> = Operation<F>["requestBody"]["content"]["application/json"];
export type Answers<F extends CoreFunction> = Operation<F>["responses"][200]["content"]["application/json"];

/** A call of the core, with what the function takes in JSON. */
export interface CoreCall {
  id: number;
  call: CoreFunction;
  in: string;
}

export type ToCore = { files: Given[] } | CoreCall;

export type FromCore = { ready: true } | { path: string; total: number } | { id: number; out: string };

/** One hash over a file: bytes of its own before and behind the content. */
export interface HashTask {
  algorithm: string;
  before: Uint8Array;
  after: Uint8Array;
}

export interface ToHash {
  file: File;
  tasks: HashTask[];
}

export type FromHash = { read: number } | { size: number; digests: string[] } | { failed: string };
