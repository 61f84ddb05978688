-- +goose Up
-- A reassessment that cannot be carried out ends, and says why.
ALTER TABLE reassessments ADD COLUMN note text NOT NULL DEFAULT '';
ALTER TABLE reassessments DROP CONSTRAINT reassessments_state_check, DROP CONSTRAINT reassessments_check,
    ADD CONSTRAINT reassessments_state_check CHECK (state IN ('waiting', 'done', 'failed')),
    ADD CONSTRAINT reassessments_check CHECK ((state IN ('done', 'failed')) = (position IS NOT NULL));

-- +goose Down
ALTER TABLE reassessments DROP COLUMN note;
ALTER TABLE reassessments DROP CONSTRAINT reassessments_state_check, DROP CONSTRAINT reassessments_check,
    ADD CONSTRAINT reassessments_state_check CHECK (state IN ('waiting', 'done')),
    ADD CONSTRAINT reassessments_check CHECK ((state = 'done') = (position IS NOT NULL));
