-- +goose Up
-- Receipts and checkpoints that lie beside files are items of a role of their own.
ALTER TABLE items DROP CONSTRAINT items_role_check;
ALTER TABLE items ADD CONSTRAINT items_role_check CHECK (role IN ('artifact', 'manifest', 'signature', 'key', 'receipt')) NOT VALID;

-- +goose Down
ALTER TABLE items DROP CONSTRAINT items_role_check;
ALTER TABLE items ADD CONSTRAINT items_role_check CHECK (role IN ('artifact', 'manifest', 'signature', 'key')) NOT VALID;
