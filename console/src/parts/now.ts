import type { Batch } from "../api/client";

/** The verdict that a batch has now: by the newest reassessment, or as it ended; or how far it is. */
export function resultNow(batch: Batch): string {
  return batch.now?.verdict ?? batch.verdict ?? batch.state;
}

/** How many artifacts of a batch have which verdict now. */
export function countsNow(batch: Batch): Batch["counts"] {
  return batch.now?.counts ?? batch.counts;
}
