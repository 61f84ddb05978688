-- +goose Up
-- What is never changed cannot be. The tables that have this trigger are also those
-- that the service's role may only add to, where it does not own them.
CREATE TRIGGER append_only BEFORE UPDATE OR DELETE OR TRUNCATE ON items FOR EACH STATEMENT EXECUTE FUNCTION refuse_change();
CREATE TRIGGER append_only BEFORE UPDATE OR DELETE OR TRUNCATE ON absents FOR EACH STATEMENT EXECUTE FUNCTION refuse_change();
CREATE TRIGGER append_only BEFORE UPDATE OR DELETE OR TRUNCATE ON service_key FOR EACH STATEMENT EXECUTE FUNCTION refuse_change();

-- +goose Down
DROP TRIGGER append_only ON service_key;
DROP TRIGGER append_only ON absents;
DROP TRIGGER append_only ON items;
