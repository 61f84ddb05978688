-- +goose Up
-- Entries of manifests whose file turned out to be in the folder after all, under a name
-- that differs harmlessly; and those that are left.
CREATE TABLE renamed (
    batch_id bigint NOT NULL,
    n        int NOT NULL,
    PRIMARY KEY (batch_id, n),
    FOREIGN KEY (batch_id, n) REFERENCES absents (batch_id, n)
);
CREATE TRIGGER append_only BEFORE UPDATE OR DELETE OR TRUNCATE ON renamed FOR EACH STATEMENT EXECUTE FUNCTION refuse_change();
CREATE VIEW missing AS
    SELECT a.* FROM absents a WHERE NOT EXISTS (SELECT FROM renamed r WHERE r.batch_id = a.batch_id AND r.n = a.n);

-- +goose Down
DROP VIEW missing;
DROP TABLE renamed;
