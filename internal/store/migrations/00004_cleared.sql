-- +goose Up
-- What was cleared is found again by its content.
CREATE INDEX outcomes_cleared_with ON outcomes ((measurement -> 'digests' ->> 'SHA-256')) WHERE verdict = 'cleared';

-- +goose Down
DROP INDEX outcomes_cleared_with;
