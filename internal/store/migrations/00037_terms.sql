-- +goose Up
-- What records are found by beside their columns: a term is a facet, such as “ground”, and a value. Terms are
-- few and records many.
CREATE TABLE terms (
    id    bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    facet text NOT NULL,
    value text NOT NULL,
    UNIQUE (facet, value)
);
CREATE TABLE record_terms (
    -- Both refer to rows that are written before in the same transaction; that each is there, the audit looks, and
    -- not the server once more for every row.
    term     bigint NOT NULL,
    position bigint NOT NULL,
    PRIMARY KEY (term, position)
);
-- Records come in their order, so that the little index of ranges finds those of some positions.
CREATE INDEX record_terms_position ON record_terms USING brin (position) WITH (pages_per_range = 16);
CREATE TRIGGER append_only BEFORE UPDATE OR DELETE OR TRUNCATE ON terms
    FOR EACH STATEMENT EXECUTE FUNCTION refuse_change();
CREATE TRIGGER append_only BEFORE UPDATE OR DELETE OR TRUNCATE ON record_terms
    FOR EACH STATEMENT EXECUTE FUNCTION refuse_change();
CREATE INDEX ledger_records_by ON ledger_records (by_name, position);
-- The terms of records below this position are still to be written: those of earlier versions, when the
-- service starts.
ALTER TABLE ledger_state ADD COLUMN without_terms bigint NOT NULL DEFAULT 0;
UPDATE ledger_state SET without_terms = size;

-- +goose Down
ALTER TABLE ledger_state DROP COLUMN without_terms;
DROP INDEX ledger_records_by;
DROP TABLE record_terms, terms;
