-- +goose Up
-- A ledger can go on with another key. The newest row is the present one.
ALTER TABLE service_key DROP CONSTRAINT service_key_pkey;
ALTER TABLE service_key DROP COLUMN only_row;
ALTER TABLE service_key ADD COLUMN id bigint GENERATED ALWAYS AS IDENTITY PRIMARY KEY;

-- +goose Down
ALTER TABLE service_key DROP COLUMN id;
ALTER TABLE service_key ADD COLUMN only_row boolean PRIMARY KEY DEFAULT true CHECK (only_row);
