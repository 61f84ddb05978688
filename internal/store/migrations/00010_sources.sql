-- +goose Up
-- Where a batch's bytes are: a kind, and a reference of that kind. Until now
-- all were folders of depots.
ALTER TABLE batches ADD COLUMN source_kind text NOT NULL DEFAULT 'depot', ADD COLUMN source text NOT NULL DEFAULT '';
UPDATE batches SET source = depot || ':' || path;
ALTER TABLE batches ALTER COLUMN source_kind DROP DEFAULT, ALTER COLUMN source DROP DEFAULT,
    ADD CONSTRAINT batches_source CHECK (source <> ''), DROP COLUMN depot, DROP COLUMN path;

-- +goose Down
ALTER TABLE batches ADD COLUMN depot text NOT NULL DEFAULT '', ADD COLUMN path text NOT NULL DEFAULT '';
UPDATE batches SET depot = split_part(source, ':', 1), path = substr(source, strpos(source, ':') + 1);
ALTER TABLE batches ALTER COLUMN depot DROP DEFAULT, ALTER COLUMN path DROP DEFAULT, DROP COLUMN source_kind, DROP COLUMN source;
