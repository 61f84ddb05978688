-- +goose Up
-- Questions whose answer takes a while: an audit of the ledger, the reach of a
-- key. They are work like a batch, and are forgotten some days after.
CREATE TABLE inquiries (
    id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    kind text NOT NULL CHECK (kind IN ('audit', 'reach')),
    question jsonb NOT NULL,
    asked_by text NOT NULL,
    created_at timestamptz NOT NULL,
    state text NOT NULL DEFAULT 'waiting' CHECK (state IN ('waiting', 'done', 'failed')),
    done bigint NOT NULL DEFAULT 0,
    total bigint NOT NULL DEFAULT 0,
    answer jsonb,
    note text NOT NULL DEFAULT '',
    finished_at timestamptz,
    CHECK ((state = 'done') = (answer IS NOT NULL))
);
CREATE INDEX inquiries_waiting ON inquiries (kind) WHERE state = 'waiting';

-- +goose Down
DROP TABLE inquiries;
