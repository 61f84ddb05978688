-- +goose Up
-- How often a key's row was changed, so that a process can tell whether what it
-- holds in memory is still so. Counters of their own lock nothing that others
-- wait for.
ALTER TABLE keys ADD COLUMN revision bigint NOT NULL DEFAULT 1;

-- +goose StatementBegin
CREATE FUNCTION count_revision() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    NEW.revision := OLD.revision + 1;
    RETURN NEW;
END
$$;
-- +goose StatementEnd

CREATE TRIGGER count_revision BEFORE UPDATE ON keys FOR EACH ROW EXECUTE FUNCTION count_revision();

-- +goose Down
DROP TRIGGER count_revision ON keys;
DROP FUNCTION count_revision();
ALTER TABLE keys DROP COLUMN revision;
