-- +goose Up
-- The sentence that a row of a list shows, so that no list fetches evidence.
-- Outcomes of earlier versions have none; theirs is found when they are listed.
ALTER TABLE outcomes ADD COLUMN deciding text;

-- +goose Down
ALTER TABLE outcomes DROP COLUMN deciding;
