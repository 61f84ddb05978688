-- +goose Up
-- Equipment that hashes what it holds. How it is let in and which host key it has is in
-- files on the service's host, and never here.
CREATE TABLE devices (
    name       text PRIMARY KEY,
    kind       text NOT NULL,
    address    text NOT NULL,
    credential text NOT NULL,
    publisher  text NOT NULL,
    place      text NOT NULL,
    retired    text NOT NULL,
    by_name    text NOT NULL,
    at         timestamptz NOT NULL,
    position   bigint NOT NULL
);

-- What a batch asks a device, until that is surveyed; then it stands in its items.
CREATE TABLE device_checks (
    batch_id bigint PRIMARY KEY REFERENCES batches (id),
    asked    jsonb NOT NULL
);
CREATE INDEX batches_of_devices ON batches (source, id) WHERE source_kind = 'device';

-- +goose Down
DROP INDEX batches_of_devices;
DROP TABLE device_checks;
DROP TABLE devices;
