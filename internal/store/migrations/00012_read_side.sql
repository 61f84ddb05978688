-- +goose Up
-- What is searched is stored for searching. All of this follows from outcomes
-- and batches, and is filled from those that are there.

-- Every digest that was computed of an item.
CREATE TABLE outcome_digests (
    batch_id  bigint NOT NULL,
    n         int NOT NULL,
    algorithm text NOT NULL,
    digest    bytea NOT NULL,
    -- Whether the item was cleared: what was is looked for whenever nothing
    -- speaks of a file.
    cleared   boolean NOT NULL,
    PRIMARY KEY (batch_id, n, algorithm),
    FOREIGN KEY (batch_id, n) REFERENCES outcomes (batch_id, n)
);
INSERT INTO outcome_digests SELECT o.batch_id, o.n, d.key, decode(d.value, 'hex'), coalesce(o.verdict = 'cleared', false)
    FROM outcomes o CROSS JOIN LATERAL jsonb_each_text(coalesce(o.measurement -> 'digests', '{}')) d;
CREATE INDEX outcome_digests_digest ON outcome_digests (digest);
CREATE INDEX outcome_digests_cleared ON outcome_digests (digest) WHERE cleared;
DROP INDEX outcomes_cleared_with;

-- What the signatures over an item name as their makers: fingerprints and key
-- IDs, as they stand in the grounds.
CREATE TABLE outcome_signers (
    issuer   text NOT NULL,
    batch_id bigint NOT NULL,
    n        int NOT NULL,
    PRIMARY KEY (issuer, batch_id, n),
    FOREIGN KEY (batch_id, n) REFERENCES outcomes (batch_id, n)
);
INSERT INTO outcome_signers SELECT DISTINCT s.issuer, o.batch_id, o.n
    FROM outcomes o CROSS JOIN LATERAL jsonb_array_elements(o.grounds) g
    CROSS JOIN LATERAL (VALUES (g -> 'signature' ->> 'key'), (g -> 'signature' ->> 'made_by'), (g -> 'signature' ->> 'issuer')) s (issuer)
    WHERE s.issuer <> '';

CREATE TRIGGER append_only BEFORE UPDATE OR DELETE OR TRUNCATE ON outcome_digests FOR EACH STATEMENT EXECUTE FUNCTION refuse_change();
CREATE TRIGGER append_only BEFORE UPDATE OR DELETE OR TRUNCATE ON outcome_signers FOR EACH STATEMENT EXECUTE FUNCTION refuse_change();

-- The order in which people want to see items: the refused first.
ALTER TABLE outcomes ADD COLUMN rank smallint NOT NULL GENERATED ALWAYS AS
    (CASE verdict WHEN 'refused' THEN 0 WHEN 'unproven' THEN 1 WHEN 'cleared' THEN 2 ELSE 3 END) STORED;
CREATE INDEX outcomes_rank ON outcomes (batch_id, rank, n);

-- Names within a batch are looked through without their rows.
ALTER TABLE items DROP CONSTRAINT items_batch_id_path_key;
CREATE UNIQUE INDEX items_path ON items (batch_id, path) INCLUDE (n);

-- How a batch ended, so that lists need not count it again.
ALTER TABLE batches ADD COLUMN total_items int, ADD COLUMN total_bytes bigint, ADD COLUMN done_items int, ADD COLUMN done_bytes bigint,
    ADD COLUMN total_cleared int, ADD COLUMN total_unproven int, ADD COLUMN total_refused int, ADD COLUMN total_absent int;
UPDATE batches b SET
    total_items = coalesce((SELECT sum(items) FROM slices s WHERE s.batch_id = b.id), 0),
    total_bytes = coalesce((SELECT sum(bytes) FROM slices s WHERE s.batch_id = b.id), 0),
    done_bytes = coalesce((SELECT sum(bytes_done) FROM slices s WHERE s.batch_id = b.id), 0),
    done_items = (SELECT count(*) FROM outcomes o WHERE o.batch_id = b.id),
    total_cleared = (SELECT count(*) FROM outcomes o WHERE o.batch_id = b.id AND o.verdict = 'cleared'),
    total_unproven = (SELECT count(*) FROM outcomes o WHERE o.batch_id = b.id AND o.verdict = 'unproven'),
    total_refused = (SELECT count(*) FROM outcomes o WHERE o.batch_id = b.id AND o.verdict = 'refused'),
    total_absent = (SELECT count(*) FROM absents a WHERE a.batch_id = b.id)
    WHERE state IN ('done', 'failed');
ALTER TABLE batches ADD CHECK ((state IN ('done', 'failed')) = (total_items IS NOT NULL));
CREATE INDEX batches_verdict ON batches (verdict, id) WHERE verdict IS NOT NULL;
CREATE INDEX batches_state ON batches (state, id);
CREATE INDEX batches_created ON batches (created_at);

-- How many artifacts got which verdict on a day, UTC.
CREATE TABLE outcome_days (
    day     date NOT NULL,
    verdict text NOT NULL CHECK (verdict IN ('cleared', 'unproven', 'refused')),
    count   bigint NOT NULL,
    PRIMARY KEY (day, verdict)
);
INSERT INTO outcome_days SELECT (at AT TIME ZONE 'UTC')::date, verdict, count(*) FROM ledger_records
    WHERE kind = 'item-outcome' AND verdict IS NOT NULL GROUP BY 1, 2;

-- Names are found by any part of them.
CREATE EXTENSION IF NOT EXISTS pg_trgm;
CREATE INDEX ledger_records_subject ON ledger_records USING gin (lower(subject) gin_trgm_ops);
CREATE INDEX ledger_records_at ON ledger_records (at);

-- +goose Down
DROP INDEX ledger_records_at, ledger_records_subject;
DROP TABLE outcome_days;
DROP INDEX batches_created, batches_state, batches_verdict;
ALTER TABLE batches DROP COLUMN total_items, DROP COLUMN total_bytes, DROP COLUMN done_items, DROP COLUMN done_bytes,
    DROP COLUMN total_cleared, DROP COLUMN total_unproven, DROP COLUMN total_refused, DROP COLUMN total_absent;
DROP INDEX outcomes_rank, items_path;
ALTER TABLE items ADD CONSTRAINT items_batch_id_path_key UNIQUE (batch_id, path);
ALTER TABLE outcomes DROP COLUMN rank;
CREATE INDEX outcomes_cleared_with ON outcomes ((measurement -> 'digests' ->> 'SHA-256')) WHERE verdict = 'cleared';
DROP TABLE outcome_signers, outcome_digests;
