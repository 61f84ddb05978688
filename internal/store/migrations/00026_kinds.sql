-- +goose Up
-- The newest batch of a folder is asked for by the folder.
CREATE INDEX batches_of_folders ON batches (source, id) WHERE source_kind = 'depot';

-- Kinds of devices that curators have described; others come with the program, or with its
-- configuration.
CREATE TABLE device_kinds (
    name     text PRIMARY KEY,
    content  text NOT NULL,
    retired  text NOT NULL,
    by_name  text NOT NULL,
    at       timestamptz NOT NULL,
    position bigint NOT NULL
);

-- +goose Down
DROP TABLE device_kinds;
DROP INDEX batches_of_folders;
