-- +goose Up

-- People and access -----------------------------------------------------------

CREATE TABLE users (
    id            bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    name          text NOT NULL UNIQUE CHECK (name ~ '^[a-z0-9][a-z0-9._-]{0,63}$'),
    full_name     text NOT NULL,
    role          text NOT NULL CHECK (role IN ('auditor', 'operator', 'curator', 'administrator')),
    password_hash text NOT NULL,
    created_at    timestamptz NOT NULL
);

-- Tokens are stored as SHA-256 of their text.
CREATE TABLE tokens (
    id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    user_id    bigint NOT NULL REFERENCES users (id),
    label      text NOT NULL,
    role       text NOT NULL CHECK (role IN ('auditor', 'operator', 'curator', 'administrator')),
    hash       bytea NOT NULL UNIQUE CHECK (octet_length(hash) = 32),
    created_at timestamptz NOT NULL,
    expires_at timestamptz NOT NULL,
    revoked_at timestamptz
);

CREATE TABLE sessions (
    token  text PRIMARY KEY,
    data   bytea NOT NULL,
    expiry timestamptz NOT NULL
);
CREATE INDEX sessions_expiry ON sessions (expiry);

-- Ledger ------------------------------------------------------------------------

-- One row, locked by whoever appends, so that appends come one after another.
CREATE TABLE ledger_state (
    only_row boolean PRIMARY KEY DEFAULT true CHECK (only_row),
    size     bigint NOT NULL CHECK (size >= 0)
);
INSERT INTO ledger_state (size) VALUES (0);

CREATE TABLE ledger_records (
    position bigint PRIMARY KEY CHECK (position >= 0),
    kind     text NOT NULL,
    at       timestamptz NOT NULL,
    by_name  text NOT NULL,
    subject  text NOT NULL,
    verdict  text,
    batch_id bigint,
    body     bytea NOT NULL,
    leaf     bytea NOT NULL CHECK (octet_length(leaf) = 32)
);
CREATE INDEX ledger_records_kind ON ledger_records (kind, position);
CREATE INDEX ledger_records_batch ON ledger_records (batch_id, position) WHERE batch_id IS NOT NULL;
CREATE INDEX ledger_records_verdict ON ledger_records (verdict, position) WHERE verdict IS NOT NULL;

CREATE TABLE ledger_hashes (
    index bigint PRIMARY KEY CHECK (index >= 0),
    hash  bytea NOT NULL CHECK (octet_length(hash) = 32)
);

CREATE TABLE checkpoints (
    size   bigint PRIMARY KEY CHECK (size >= 0),
    signed text NOT NULL,
    at     timestamptz NOT NULL
);

-- The public half of the service's signing key; the secret half is in a file.
CREATE TABLE service_key (
    only_row   boolean PRIMARY KEY DEFAULT true CHECK (only_row),
    public_key text NOT NULL,
    origin     text NOT NULL,
    created_at timestamptz NOT NULL
);

-- +goose StatementBegin
CREATE FUNCTION refuse_change() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    RAISE EXCEPTION 'rows of % are never changed or removed', TG_TABLE_NAME USING ERRCODE = 'restrict_violation';
END
$$;
-- +goose StatementEnd

CREATE TRIGGER append_only BEFORE UPDATE OR DELETE OR TRUNCATE ON ledger_records
    FOR EACH STATEMENT EXECUTE FUNCTION refuse_change();
CREATE TRIGGER append_only BEFORE UPDATE OR DELETE OR TRUNCATE ON ledger_hashes
    FOR EACH STATEMENT EXECUTE FUNCTION refuse_change();
CREATE TRIGGER append_only BEFORE UPDATE OR DELETE OR TRUNCATE ON checkpoints
    FOR EACH STATEMENT EXECUTE FUNCTION refuse_change();

-- Policy --------------------------------------------------------------------------

CREATE TABLE policies (
    version    bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    name       text NOT NULL,
    document   jsonb NOT NULL,
    created_at timestamptz NOT NULL,
    created_by text NOT NULL
);
CREATE TRIGGER append_only BEFORE UPDATE OR DELETE OR TRUNCATE ON policies
    FOR EACH STATEMENT EXECUTE FUNCTION refuse_change();

-- Keyring ---------------------------------------------------------------------------

CREATE TABLE publishers (
    id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    slug       text NOT NULL UNIQUE CHECK (slug ~ '^[a-z0-9][a-z0-9-]{0,63}$'),
    name       text NOT NULL,
    contact    text NOT NULL,
    scope      text[] NOT NULL,
    created_at timestamptz NOT NULL,
    created_by text NOT NULL
);

CREATE TABLE keys (
    fingerprint  bytea PRIMARY KEY CHECK (octet_length(fingerprint) BETWEEN 16 AND 32),
    certificate  bytea NOT NULL,
    publisher_id bigint REFERENCES publishers (id),
    role         text NOT NULL CHECK (role IN ('release', 'anchor')),
    imported_at  timestamptz NOT NULL,
    imported_by  text NOT NULL,
    source       text NOT NULL
);

-- A key is in the state of its newest change; without one it is a candidate.
CREATE TABLE key_changes (
    id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    fingerprint bytea NOT NULL REFERENCES keys (fingerprint),
    at          timestamptz NOT NULL,
    to_state    text NOT NULL CHECK (to_state IN ('candidate', 'admitted', 'withdrawn')),
    by_name     text NOT NULL,
    reason      text NOT NULL,
    position    bigint NOT NULL UNIQUE REFERENCES ledger_records (position)
);
CREATE INDEX key_changes_fingerprint ON key_changes (fingerprint, id);
CREATE TRIGGER append_only BEFORE UPDATE OR DELETE OR TRUNCATE ON key_changes
    FOR EACH STATEMENT EXECUTE FUNCTION refuse_change();

CREATE TABLE sightings (
    id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    fingerprint bytea NOT NULL REFERENCES keys (fingerprint),
    read_value  bytea NOT NULL,
    channel     text NOT NULL,
    place       text NOT NULL,
    note        text NOT NULL,
    at          timestamptz NOT NULL,
    by_name     text NOT NULL,
    resolved    text NOT NULL DEFAULT '',
    position    bigint NOT NULL UNIQUE REFERENCES ledger_records (position)
);
CREATE INDEX sightings_fingerprint ON sightings (fingerprint, id);

-- Batches -----------------------------------------------------------------------------

CREATE TABLE batches (
    id              bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    label           text NOT NULL,
    depot           text NOT NULL,
    path            text NOT NULL,
    publisher       text NOT NULL,
    require_all     boolean NOT NULL,
    policy_version  bigint NOT NULL REFERENCES policies (version),
    asked_by        text NOT NULL,
    idempotency_key text NOT NULL DEFAULT '',
    created_at      timestamptz NOT NULL,
    -- judged_as_of is the time for which keyring and policy are asked, the
    -- same for every item however long the batch takes.
    judged_as_of    timestamptz NOT NULL,
    finished_at     timestamptz,
    state           text NOT NULL CHECK (state IN ('waiting', 'measuring', 'done', 'failed')),
    verdict         text CHECK (verdict IN ('cleared', 'unproven', 'refused')),
    expected        jsonb,
    note            text NOT NULL DEFAULT '',
    position        bigint UNIQUE REFERENCES ledger_records (position),
    CHECK ((state = 'done') = (verdict IS NOT NULL)),
    CHECK ((state IN ('done', 'failed')) = (position IS NOT NULL))
);
CREATE UNIQUE INDEX batches_idempotency ON batches (asked_by, idempotency_key) WHERE idempotency_key <> '';
CREATE INDEX batches_open ON batches (id) WHERE state IN ('waiting', 'measuring');

CREATE TABLE slices (
    batch_id   bigint NOT NULL REFERENCES batches (id),
    n          int NOT NULL,
    items      int NOT NULL,
    bytes      bigint NOT NULL,
    bytes_done bigint NOT NULL DEFAULT 0,
    done       boolean NOT NULL DEFAULT false,
    PRIMARY KEY (batch_id, n)
);

CREATE TABLE items (
    batch_id bigint NOT NULL REFERENCES batches (id),
    n        int NOT NULL,
    slice    int NOT NULL,
    path     text NOT NULL,
    role     text NOT NULL CHECK (role IN ('artifact', 'manifest', 'signature', 'key')),
    size     bigint NOT NULL,
    survey   jsonb NOT NULL,
    PRIMARY KEY (batch_id, n),
    UNIQUE (batch_id, path),
    FOREIGN KEY (batch_id, slice) REFERENCES slices (batch_id, n)
);
CREATE INDEX items_slice ON items (batch_id, slice);

-- Exactly one outcome for each item, and one record for each outcome.
CREATE TABLE outcomes (
    batch_id    bigint NOT NULL,
    n           int NOT NULL,
    verdict     text CHECK (verdict IN ('cleared', 'unproven', 'refused')),
    measurement jsonb NOT NULL,
    grounds     jsonb NOT NULL,
    paths       jsonb NOT NULL,
    position    bigint NOT NULL UNIQUE REFERENCES ledger_records (position),
    PRIMARY KEY (batch_id, n),
    FOREIGN KEY (batch_id, n) REFERENCES items (batch_id, n)
);
CREATE INDEX outcomes_verdict ON outcomes (batch_id, verdict);
CREATE TRIGGER append_only BEFORE UPDATE OR DELETE OR TRUNCATE ON outcomes
    FOR EACH STATEMENT EXECUTE FUNCTION refuse_change();

CREATE TABLE absents (
    batch_id bigint NOT NULL REFERENCES batches (id),
    n        int NOT NULL,
    name     text NOT NULL,
    manifest text NOT NULL,
    line     int NOT NULL,
    PRIMARY KEY (batch_id, n)
);

-- Workers ---------------------------------------------------------------------------------

-- A living worker holds the advisory lock of its row; PostgreSQL lets go of it
-- the moment the worker's connection ends.
CREATE TABLE workers (
    id         text PRIMARY KEY,
    lock_key   bigint GENERATED ALWAYS AS IDENTITY UNIQUE,
    started_at timestamptz NOT NULL
);

-- +goose Down
DROP TABLE workers, absents, outcomes, items, slices, batches, sightings, key_changes, keys, publishers, policies,
    service_key, checkpoints, ledger_hashes, ledger_records, ledger_state, sessions, tokens, users;
DROP FUNCTION refuse_change();
