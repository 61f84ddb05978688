-- +goose Up
-- Judging stored measurements again. What was judged before stands as it was;
-- what differs is kept here, with a record for each item.
CREATE TABLE reassessments (
    id             bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    reason         text NOT NULL,
    selection      jsonb NOT NULL,
    policy_version bigint NOT NULL REFERENCES policies (version),
    asked_by       text NOT NULL,
    -- Keyring, policy and waivers are asked as of then.
    created_at     timestamptz NOT NULL,
    finished_at    timestamptz,
    state          text NOT NULL CHECK (state IN ('waiting', 'done')),
    items          int NOT NULL DEFAULT 0,
    changed        int NOT NULL DEFAULT 0,
    position       bigint UNIQUE REFERENCES ledger_records (position),
    CHECK ((state = 'done') = (position IS NOT NULL))
);

CREATE TABLE rejudged (
    reassessment_id bigint NOT NULL REFERENCES reassessments (id),
    batch_id        bigint NOT NULL,
    n               int NOT NULL,
    before          text NOT NULL CHECK (before IN ('cleared', 'unproven', 'refused')),
    after           text NOT NULL CHECK (after IN ('cleared', 'unproven', 'refused')),
    grounds         jsonb NOT NULL,
    paths           jsonb NOT NULL,
    position        bigint NOT NULL UNIQUE REFERENCES ledger_records (position),
    PRIMARY KEY (reassessment_id, batch_id, n),
    FOREIGN KEY (batch_id, n) REFERENCES items (batch_id, n)
);
CREATE INDEX rejudged_item ON rejudged (batch_id, n, reassessment_id);
CREATE TRIGGER append_only BEFORE UPDATE OR DELETE OR TRUNCATE ON rejudged
    FOR EACH STATEMENT EXECUTE FUNCTION refuse_change();

-- +goose Down
DROP TABLE rejudged, reassessments;
