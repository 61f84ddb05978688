/** What goes between the page and its workers, and what the core says in JSON. */

import type { components } from "../api/types";

/** How often it is told how far reading has come, in milliseconds. */
export const tellEvery = 250;

export type Assignment = components["schemas"]["Assignment"];
export type FileReading = components["schemas"]["FileReading"];
export type Submission = components["schemas"]["Submission"];
export type Diagnosis = components["schemas"]["Diagnosis"];
export type ListedFile = components["schemas"]["ListedFile"];
export type ListedContainer = components["schemas"]["ListedContainer"];
export type DrillAssignment = components["schemas"]["DrillAssignment"];

/** A file that was given to the page, by its path in what was given. */
export interface Given {
  path: string;
  file: File;
  /** Set for a text that was pasted: it is held against the files, whatever it looks like. */
  pasted?: boolean;
}

/** What the core found of the files. */
export interface Findings {
  files: (Omit<ListedFile, "content"> & { content: string | null })[];
  containers: ListedContainer[];
}

/** What a pasted text is. */
export interface Recognised {
  kind: "nothing" | "signed-text" | "key" | "signature" | "value" | "list" | "receipt";
  says: string;
  entries: number;
  /** Where in the text what was read stands, in bytes of it in UTF-8, and what was made of it. */
  marks: { start: number; end: number; line: number; kind: "entry" | "problem" | "aside"; says: string }[];
  more?: number;
}

/** A call of the core: one of its functions, with what it takes in JSON. */
export interface CoreCall {
  id: number;
  call: "hold" | "gather" | "recognise" | "measure" | "explain" | "drill";
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
