import createClient from "openapi-fetch";
import { harmlessAll } from "../parts/text";

import type { components, paths } from "./types";

export type Attention = components["schemas"]["Attention"];
export type Batch = components["schemas"]["Batch"];
export type Item = components["schemas"]["Item"];
export type ItemRow = components["schemas"]["ItemRow"];
export type Ground = components["schemas"]["Ground"];
export type Survey = components["schemas"]["Survey"];
export type Planned = components["schemas"]["Planned"];
export type Correction = components["schemas"]["Correction"];
export type Copy = components["schemas"]["Copy"];
export type GivenCopy = components["schemas"]["GivenCopy"];
export type ComesFrom = components["schemas"]["ComesFrom"];
export type ManifestContent = components["schemas"]["ManifestContent"];
export type Inspection = components["schemas"]["Inspection"];
export type Piece = components["schemas"]["Piece"];
export type Policy = components["schemas"]["Policy"];
export type PolicyField = components["schemas"]["PolicyField"];
export type PolicyVersion = components["schemas"]["PolicyVersion"];
export type Cause = components["schemas"]["Cause"];
export type ProofPath = components["schemas"]["ProofPath"];
export type Link = components["schemas"]["Link"];
export type Key = components["schemas"]["Key"];
export type Path = components["schemas"]["Path"];
export type Sighting = components["schemas"]["Sighting"];
export type LedgerRecord = components["schemas"]["Record"];
export type Reach = components["schemas"]["Reach"];
export type Inquiry = components["schemas"]["Inquiry"];
export type Rejudge = components["schemas"]["Rejudge"];
export type Reassessment = components["schemas"]["Reassessment"];
export type Selection = components["schemas"]["Selection"];
export type LookUp = components["schemas"]["LookUp"];
export type Import = components["schemas"]["Import"];
export type ImportedPackets = components["schemas"]["ImportedPackets"];
export type Waiver = components["schemas"]["Waiver"];
export type Publisher = components["schemas"]["Publisher"];
export type Overview = components["schemas"]["Overview"];
export type DayCount = components["schemas"]["DayCount"];
export type Me = components["schemas"]["Me"];
/** A problem that the service tells, or one that the page finds by itself. */
export type Problem = Omit<components["schemas"]["Problem"], "code"> & {
  code: components["schemas"]["ProblemCode"] | OwnCode;
};
type OwnCode = "page-outdated" | "unreachable" | "connection-lost" | "nothing-given" | "core";
export type Verdict = components["schemas"]["Verdict"];
export type Role = components["schemas"]["Role"];
export type NewSighting = components["schemas"]["NewSighting"];
export type NewWaiver = components["schemas"]["NewWaiver"];
export type User = components["schemas"]["User"];
export type NewUser = components["schemas"]["NewUser"];
export type UserChange = components["schemas"]["UserChange"];
export type Token = components["schemas"]["Token"];
export type NewToken = components["schemas"]["NewToken"];
export type Admission = components["schemas"]["Admission"];

/** The level of the API that this page speaks; it goes with every request. */
export const level = { name: "Endeixis-Level", value: "2" };

export const api = createClient<paths>({
  baseUrl: "/",
  credentials: "same-origin",
  headers: { [level.name]: level.value },
});

/** Refuses an answer of a service that has become another one since the page was loaded, before it is read. */
export function levelled(response: Response): void {
  const spoken = response.headers.get(level.name);
  if (spoken !== null && spoken !== level.value) throw new Failure(outdated);
}

api.use({
  onResponse: ({ response }) => {
    levelled(response);
  },
});

/** A problem that the service answered, or its silence. */
export class Failure extends Error {
  constructor(readonly problem: Problem) {
    super(problem.detail);
  }
}

const outdated: Problem = {
  type: "about:blank",
  title: "Another version",
  status: 409,
  code: "page-outdated",
  detail: "The service has become another version since this page was loaded, so that what it answers is not shown.",
  advice: "Load the page again. Nothing was lost.",
};

const silence: Problem = {
  type: "about:blank",
  title: "No answer",
  status: 503,
  code: "unreachable",
  detail: "The service does not answer.",
  advice: "Nothing was lost. Check the network, and whether the service is running, then try again.",
};

interface Answer<T> {
  data?: T;
  error?: unknown;
}

/** Returns what a call answered, made harmless, or throws a Failure. */
export async function ask<T>(call: Promise<Answer<T>>): Promise<T> {
  return harmlessAll(await askRaw(call));
}

/** The same as it came: its texts have to be made harmless where they are shown. */
export async function askRaw<T>(call: Promise<Answer<T>>): Promise<T> {
  let answer: Answer<T>;
  try {
    answer = await call;
  } catch (e) {
    throw e instanceof Failure ? e : new Failure(silence);
  }
  if (answer.error !== undefined) throw failureOf(answer.error);
  return answer.data as T;
}

/** A problem as it came, made harmless; what is none is told as silence. */
export function failureOf(answered: unknown): Failure {
  const problem = (answered ?? {}) as Partial<Problem>;
  return new Failure(harmlessAll(problem.detail ? { ...silence, advice: undefined, ...problem } : silence));
}
