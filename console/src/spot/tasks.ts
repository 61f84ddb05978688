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
