-- +goose Up
-- Pairs of signature and file that the person who asked set by hand.
ALTER TABLE batches ADD COLUMN corrections jsonb NOT NULL DEFAULT '[]';

-- +goose Down
ALTER TABLE batches DROP COLUMN corrections;
