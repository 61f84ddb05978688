-- +goose Up
-- The end of a file of outcomes can be lost and written anew on site: then two outcomes have
-- one number, and both are kept where somebody says why.
ALTER TABLE visits DROP CONSTRAINT visits_satchel_id_sealed_by_n_key;
CREATE UNIQUE INDEX visits_once ON visits (satchel_id, sealed_by, n, sha256(content));

-- +goose Down
DROP INDEX visits_once;
ALTER TABLE visits ADD CONSTRAINT visits_satchel_id_sealed_by_n_key UNIQUE (satchel_id, sealed_by, n);
