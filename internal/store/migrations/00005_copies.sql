-- +goose Up
-- Where manifests of the folder come from, as the person who asked said.
ALTER TABLE batches ADD COLUMN origins jsonb NOT NULL DEFAULT '{}';

-- Copies of manifests, from elsewhere. A copy is either given with the request
-- or fetched from a configured origin; what was had is kept as it was.
CREATE TABLE copies (
    batch_id   bigint NOT NULL REFERENCES batches (id),
    n          int NOT NULL,
    of_path    text NOT NULL,
    channel    text NOT NULL,
    place      text NOT NULL,
    origin     text NOT NULL DEFAULT '',
    path       text NOT NULL DEFAULT '',
    content    bytea,
    -- summary is how it compares, once the folder is surveyed.
    summary    jsonb,
    PRIMARY KEY (batch_id, n)
);

-- Why a version of the policy was put in force.
ALTER TABLE policies ADD COLUMN reason text NOT NULL DEFAULT '';

-- +goose Down
ALTER TABLE policies DROP COLUMN reason;
DROP TABLE copies;
ALTER TABLE batches DROP COLUMN origins;
