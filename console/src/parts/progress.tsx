import type { Batch } from "../api/client";
import { bytes } from "./text";

/** How far a batch has come, in bytes and files. */
export function BatchProgress({ batch }: { batch: Batch }) {
  const p = batch.progress;
  const percent = p.bytes > 0 ? Math.floor((100 * p.bytes_done) / p.bytes) : 0;
  return (
    <div>
      <progress className="progress progress-primary w-full" value={percent} max={100} aria-label="Progress" />
      <p className="text-sm soft">
        {batch.state === "waiting"
          ? "The folder is being surveyed."
          : `${bytes(p.bytes_done)} of ${bytes(p.bytes)} read, ${p.items_done} of ${p.items} files settled.`}
      </p>
    </div>
  );
}
