-- +goose Up
-- What a batch comes to after a reassessment that changed verdicts in it. The newest says what it comes
-- to now; without one it is what the batch ended with.
CREATE TABLE rejudged_batches (
    reassessment_id bigint NOT NULL REFERENCES reassessments (id),
    batch_id        bigint NOT NULL REFERENCES batches (id),
    verdict         text NOT NULL CHECK (verdict IN ('cleared', 'unproven', 'refused')),
    cleared         int NOT NULL CHECK (cleared >= 0),
    unproven        int NOT NULL CHECK (unproven >= 0),
    refused         int NOT NULL CHECK (refused >= 0),
    position        bigint NOT NULL UNIQUE REFERENCES ledger_records (position),
    PRIMARY KEY (reassessment_id, batch_id)
);
CREATE INDEX rejudged_batches_now ON rejudged_batches (batch_id, position);
CREATE TRIGGER append_only BEFORE UPDATE OR DELETE OR TRUNCATE ON rejudged_batches
    FOR EACH STATEMENT EXECUTE FUNCTION refuse_change();

-- +goose Down
DROP TABLE rejudged_batches;
