-- +goose Up
-- A batch can be cancelled. stop_state says that one is being ended before it is
-- done, as what, by whom and why: what has no outcome gets one, then it is closed.
ALTER TABLE batches ADD COLUMN stop_state text CHECK (stop_state IN ('failed', 'cancelled')),
    ADD COLUMN stop_by text NOT NULL DEFAULT '', ADD COLUMN stop_reason text NOT NULL DEFAULT '';
ALTER TABLE batches DROP CONSTRAINT batches_state_check, DROP CONSTRAINT batches_check1, DROP CONSTRAINT batches_check2;
ALTER TABLE batches ADD CONSTRAINT batches_state_check CHECK (state IN ('waiting', 'measuring', 'done', 'failed', 'cancelled')),
    ADD CONSTRAINT batches_recorded CHECK ((state IN ('done', 'failed', 'cancelled')) = (position IS NOT NULL)),
    ADD CONSTRAINT batches_counted CHECK ((state IN ('done', 'failed', 'cancelled')) = (total_items IS NOT NULL));

-- Slices take turns: only a few of a batch are on the queue at a time. Those that
-- are large have a queue of their own.
ALTER TABLE slices ADD COLUMN large boolean NOT NULL DEFAULT false, ADD COLUMN queued boolean NOT NULL DEFAULT true;
ALTER TABLE slices ALTER COLUMN queued SET DEFAULT false;

-- +goose Down
ALTER TABLE slices DROP COLUMN queued, DROP COLUMN large;
UPDATE batches SET state = 'failed' WHERE state = 'cancelled';
ALTER TABLE batches DROP CONSTRAINT batches_counted, DROP CONSTRAINT batches_recorded, DROP CONSTRAINT batches_state_check;
ALTER TABLE batches ADD CONSTRAINT batches_state_check CHECK (state IN ('waiting', 'measuring', 'done', 'failed')),
    ADD CONSTRAINT batches_check1 CHECK ((state IN ('done', 'failed')) = (position IS NOT NULL)),
    ADD CONSTRAINT batches_check2 CHECK ((state IN ('done', 'failed')) = (total_items IS NOT NULL));
ALTER TABLE batches DROP COLUMN stop_reason, DROP COLUMN stop_by, DROP COLUMN stop_state;
