-- +goose Up
-- The texts of records that were appended together are stored together: what repeats in them, such as
-- a list, its signature and who measured, is there once. A page has up to 64 texts, each with an
-- end of line behind it, compressed as RFC 8878 says. A record appended alone, or with a long text, has that beside it.
CREATE TABLE ledger_pages (
    first bigint PRIMARY KEY CHECK (first >= 0),
    texts bytea NOT NULL
);
CREATE TRIGGER append_only BEFORE UPDATE OR DELETE OR TRUNCATE ON ledger_pages FOR EACH STATEMENT EXECUTE FUNCTION refuse_change();
ALTER TABLE ledger_records ALTER COLUMN body DROP NOT NULL;
ALTER TABLE ledger_records ADD COLUMN page bigint;
ALTER TABLE ledger_records ADD CONSTRAINT ledger_records_text CHECK ((body IS NULL) = (page IS NOT NULL));
-- What an outcome rests on stands in its record, and nowhere else.
ALTER TABLE outcomes DROP COLUMN measurement;
ALTER TABLE outcomes DROP COLUMN grounds;
ALTER TABLE outcomes DROP COLUMN paths;
-- What was found by its name only later does not wait in up to four megabytes that stay with the index.
ALTER INDEX ledger_records_subject SET (gin_pending_list_limit = 1024);

-- +goose Down
SELECT 1; -- what was dropped stands in the records
