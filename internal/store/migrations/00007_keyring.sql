-- +goose Up
-- How a curator explained a sighting that contradicts a key.
ALTER TABLE sightings ADD COLUMN resolved_by text NOT NULL DEFAULT '', ADD COLUMN resolved_at timestamptz;

-- What one curator proposed and another has to decide. The newest row of a key
-- that nobody decided is the one that waits.
CREATE TABLE proposals (
    id          bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    fingerprint bytea NOT NULL REFERENCES keys (fingerprint),
    publisher   text NOT NULL,
    role        text NOT NULL CHECK (role IN ('release', 'anchor')),
    reason      text NOT NULL,
    by_name     text NOT NULL,
    at          timestamptz NOT NULL,
    position    bigint NOT NULL UNIQUE REFERENCES ledger_records (position),
    decided     text NOT NULL DEFAULT '' CHECK (decided IN ('', 'admitted', 'declined', 'replaced'))
);
CREATE UNIQUE INDEX proposals_waiting ON proposals (fingerprint) WHERE decided = '';

-- So that a process sees that a publisher was changed.
ALTER TABLE publishers ADD COLUMN revision bigint NOT NULL DEFAULT 1;
CREATE TRIGGER count_revision BEFORE UPDATE ON publishers FOR EACH ROW EXECUTE FUNCTION count_revision();

-- Exceptions: each lifts one ground, for a publisher or for names, until a day.
CREATE TABLE waivers (
    id         bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY,
    ground     text NOT NULL,
    publisher  text NOT NULL DEFAULT '',
    pattern    text NOT NULL DEFAULT '',
    reason     text NOT NULL,
    by_name    text NOT NULL,
    created_at timestamptz NOT NULL,
    until      timestamptz NOT NULL,
    position   bigint NOT NULL UNIQUE REFERENCES ledger_records (position),
    ended_at   timestamptz,
    ended_by   text NOT NULL DEFAULT '',
    end_reason text NOT NULL DEFAULT '',
    CHECK (publisher <> '' OR pattern <> '')
);

-- +goose Down
DROP TABLE waivers, proposals;
DROP TRIGGER count_revision ON publishers;
ALTER TABLE publishers DROP COLUMN revision;
ALTER TABLE sightings DROP COLUMN resolved_by, DROP COLUMN resolved_at;
