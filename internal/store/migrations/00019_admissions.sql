-- +goose Up
-- An admission can be for the past, until a time, and can rest on the certifications
-- of anchors.
ALTER TABLE key_changes ADD COLUMN until timestamptz, ADD COLUMN rests_on text[] NOT NULL DEFAULT '{}';
ALTER TABLE proposals ADD COLUMN until timestamptz;

-- +goose Down
ALTER TABLE proposals DROP COLUMN until;
ALTER TABLE key_changes DROP COLUMN until, DROP COLUMN rests_on;
