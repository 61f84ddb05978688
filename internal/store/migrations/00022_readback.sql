-- +goose Up
-- Media are read back against files that were verified here. What a batch that is measured
-- elsewhere is read back against stands with its measurer; once it is surveyed, in its item.
ALTER TABLE measurers ADD COLUMN against jsonb;
CREATE INDEX items_against ON items (((survey -> 'against' ->> 'batch')::bigint), ((survey -> 'against' ->> 'n')::int)) WHERE survey ? 'against';

-- Digests of the pieces of files, by which a medium is compared that differs.
CREATE TABLE piece_digests (
    batch_id bigint NOT NULL,
    n        int NOT NULL,
    size     bigint NOT NULL CHECK (size > 0),
    digests  bytea NOT NULL,
    PRIMARY KEY (batch_id, n, size),
    FOREIGN KEY (batch_id, n) REFERENCES items (batch_id, n)
);

-- +goose Down
DROP TABLE piece_digests;
DROP INDEX items_against;
ALTER TABLE measurers DROP COLUMN against;
