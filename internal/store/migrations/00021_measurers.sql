-- +goose Up
-- Batches whose files somebody else reads: who was last heard when, and the list of
-- files that they send, page by page, until the batch is surveyed.
CREATE TABLE measurers (
    batch_id bigint PRIMARY KEY REFERENCES batches (id),
    software text NOT NULL,
    pages    int CHECK (pages > 0),
    heard_at timestamptz NOT NULL,
    lapsed   boolean NOT NULL DEFAULT false
);
CREATE TABLE listing_pages (
    batch_id bigint NOT NULL REFERENCES measurers (batch_id),
    n        int NOT NULL CHECK (n > 0),
    body     bytea NOT NULL,
    PRIMARY KEY (batch_id, n)
);

-- +goose Down
DROP TABLE listing_pages;
DROP TABLE measurers;
