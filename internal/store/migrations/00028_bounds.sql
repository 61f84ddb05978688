-- +goose Up
-- No sum of sizes overflows: a file has at most 256 TiB, and a batch at most 1 EiB.
ALTER TABLE items ADD CONSTRAINT items_size_bound CHECK (size BETWEEN -1 AND 281474976710656) NOT VALID;
ALTER TABLE slices ADD CONSTRAINT slices_bytes_bound CHECK (bytes BETWEEN 0 AND 1152921504606846976 AND bytes_done BETWEEN 0 AND 1152921504606846976) NOT VALID;
ALTER TABLE batches ADD CONSTRAINT batches_bytes_bound CHECK (total_bytes BETWEEN 0 AND 1152921504606846976 AND done_bytes BETWEEN 0 AND 1152921504606846976) NOT VALID;

-- +goose Down
ALTER TABLE batches DROP CONSTRAINT batches_bytes_bound;
ALTER TABLE slices DROP CONSTRAINT slices_bytes_bound;
ALTER TABLE items DROP CONSTRAINT items_size_bound;
