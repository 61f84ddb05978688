-- +goose Up
-- What keys and publishers were like at any size of the ledger: each change is
-- kept with the position of its record. What was there before counts always.
ALTER TABLE keys ADD COLUMN position bigint NOT NULL DEFAULT -1;
ALTER TABLE publishers ADD COLUMN position bigint NOT NULL DEFAULT -1;

-- The newest change is asked for with every slice of a batch.
CREATE INDEX keys_position ON keys (position);
CREATE INDEX publishers_position ON publishers (position);

CREATE TABLE key_versions (
    fingerprint  bytea NOT NULL REFERENCES keys (fingerprint),
    revision     bigint NOT NULL,
    position     bigint NOT NULL,
    certificate  bytea NOT NULL,
    publisher_id bigint REFERENCES publishers (id),
    role         text NOT NULL,
    PRIMARY KEY (fingerprint, revision)
);
INSERT INTO key_versions SELECT fingerprint, revision, position, certificate, publisher_id, role FROM keys;

CREATE TABLE publisher_versions (
    publisher_id bigint NOT NULL REFERENCES publishers (id),
    revision     bigint NOT NULL,
    position     bigint NOT NULL,
    name         text NOT NULL,
    scope        text[] NOT NULL,
    PRIMARY KEY (publisher_id, revision)
);
INSERT INTO publisher_versions SELECT id, revision, position, name, scope FROM publishers;

-- +goose StatementBegin
CREATE FUNCTION keep_version() RETURNS trigger LANGUAGE plpgsql AS $$
BEGIN
    IF TG_TABLE_NAME = 'keys' THEN
        INSERT INTO key_versions VALUES (NEW.fingerprint, NEW.revision, NEW.position, NEW.certificate, NEW.publisher_id, NEW.role);
    ELSE
        INSERT INTO publisher_versions VALUES (NEW.id, NEW.revision, NEW.position, NEW.name, NEW.scope);
    END IF;
    RETURN NULL;
END
$$;
-- +goose StatementEnd
CREATE TRIGGER keep_version AFTER INSERT OR UPDATE ON keys FOR EACH ROW EXECUTE FUNCTION keep_version();
CREATE TRIGGER keep_version AFTER INSERT OR UPDATE ON publishers FOR EACH ROW EXECUTE FUNCTION keep_version();
CREATE TRIGGER append_only BEFORE UPDATE OR DELETE OR TRUNCATE ON key_versions FOR EACH STATEMENT EXECUTE FUNCTION refuse_change();
CREATE TRIGGER append_only BEFORE UPDATE OR DELETE OR TRUNCATE ON publisher_versions FOR EACH STATEMENT EXECUTE FUNCTION refuse_change();

-- The size of the ledger when a batch was asked for: the keyring counts as of
-- then. Batches of before have none.
ALTER TABLE batches ADD COLUMN ledger_size bigint;

-- +goose Down
ALTER TABLE batches DROP COLUMN ledger_size;
DROP TRIGGER keep_version ON keys;
DROP TRIGGER keep_version ON publishers;
DROP FUNCTION keep_version();
DROP TABLE key_versions, publisher_versions;
ALTER TABLE keys DROP COLUMN position;
ALTER TABLE publishers DROP COLUMN position;
