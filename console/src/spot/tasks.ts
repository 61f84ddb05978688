/** What of the plan is hashed by the fast hashes, and what by the core. */

import type { Assignment, HashTask } from "./protocol";

/**
 * Algorithms that the fast hashes have. SHA-1 is not among them: the core looks for the
 * marks of a collision in what it hashes.
 */
const fast = new Set([
  "CRC-32",
  "MD5",
  "RIPEMD-160",
  "SHA-224",
  "SHA-256",
  "SHA-384",
  "SHA-512",
  "SHA3-224",
  "SHA3-256",
  "SHA3-384",
  "SHA3-512",
  "BLAKE2s",
  "BLAKE2b-256",
  "BLAKE2b-384",
  "BLAKE2b",
  "BLAKE3",
]);

const bytesOf = (base64?: string) => Uint8Array.from(atob(base64 ?? ""), (c) => c.charCodeAt(0));

/**
 * The tasks of one file in the form that the fast hashes take, or undefined where
 * something of it takes the core: what is inside it, its uncompressed form, text, an
 * algorithm that they do not have.
 */
export function fastTasks(assignments: Assignment[]): HashTask[] | undefined {
  const [assignment, ...more] = assignments;
  if (!assignment || more.length > 0 || assignment.target.inside || assignment.target.problem) return undefined;
  const tasks = assignment.target.tasks;
  if (tasks.some((t) => !fast.has(t.algorithm) || t.expanded || t.text)) return undefined;
  return tasks.map((t) => ({ algorithm: t.algorithm, before: bytesOf(t.before), after: bytesOf(t.after) }));
}

/** Assignments by the file that they are done with, which comes first. */
export function byFile(assignments: Assignment[]): Map<string, Assignment[]> {
  const out = new Map<string, Assignment[]>();
  for (const assignment of assignments) {
    const [outer = ""] = assignment.target.path.split("//");
    const list = out.get(outer);
    if (list) list.push(assignment);
    else out.set(outer, [assignment]);
  }
  return out;
}

/** Cuts a list of files into pages that the service takes. */
export function pages<F extends { content?: string }>(files: F[], most = 2000, weight = 8 << 20): F[][] {
  const out: F[][] = [];
  let page: F[] = [];
  let heavy = 0;
  const put = (file: F) => {
    const bytes = file.content?.length ?? 100;
    if (page.length >= most || (page.length > 0 && heavy + bytes > weight)) {
      out.push(page);
      page = [];
      heavy = 0;
    }
    page.push(file);
    heavy += bytes;
  };
  for (const file of files) {
    if (!file.content || file.content.length <= weight) {
      put(file);
      continue;
    }
    // Base64 is cut where its groups of four end.
    for (let at = 0; at < file.content.length; at += weight - (weight % 4)) {
      put({ ...file, content: file.content.slice(at, at + weight - (weight % 4)), continued: at > 0 || undefined });
    }
  }
  if (page.length > 0 || out.length === 0) out.push(page);
  return out;
}
