-- +goose Up
-- What was packed to judge where there is no network, and what came back.
CREATE TABLE satchels (
    id       text PRIMARY KEY,
    digest   text NOT NULL,
    document jsonb NOT NULL,
    by_name  text NOT NULL,
    at       timestamptz NOT NULL,
    until    timestamptz NOT NULL,
    position bigint NOT NULL
);
CREATE TRIGGER append_only BEFORE UPDATE OR DELETE OR TRUNCATE ON satchels FOR EACH STATEMENT EXECUTE FUNCTION refuse_change();

-- An outcome that was sealed on site, and the batch by which it is judged again.
CREATE TABLE visits (
    batch_id   bigint PRIMARY KEY REFERENCES batches (id),
    satchel_id text NOT NULL REFERENCES satchels (id),
    sealed_by  text NOT NULL,
    n          int NOT NULL,
    content    bytea NOT NULL,
    position   bigint NOT NULL,
    UNIQUE (satchel_id, sealed_by, n)
);
CREATE TRIGGER append_only BEFORE UPDATE OR DELETE OR TRUNCATE ON visits FOR EACH STATEMENT EXECUTE FUNCTION refuse_change();

-- +goose Down
DROP TABLE visits;
DROP TABLE satchels;
