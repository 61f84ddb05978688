-- +goose Up
-- Files that come along and need no clearing: the patterns that a batch was asked with, and how many there
-- are. Where a verdict stands for an item, “companion” can.
ALTER TABLE batches
    ADD COLUMN companions jsonb NOT NULL DEFAULT '[]',
    ADD COLUMN total_companions int NOT NULL DEFAULT 0 CHECK (total_companions >= 0);
ALTER TABLE rejudged_batches
    ADD COLUMN companions int NOT NULL DEFAULT 0 CHECK (companions >= 0);
ALTER TABLE outcomes DROP CONSTRAINT outcomes_verdict_check,
    ADD CONSTRAINT outcomes_verdict_check CHECK (verdict IN ('cleared', 'unproven', 'refused', 'companion'));
ALTER TABLE outcome_days DROP CONSTRAINT outcome_days_verdict_check,
    ADD CONSTRAINT outcome_days_verdict_check CHECK (verdict IN ('cleared', 'unproven', 'refused', 'companion'));
ALTER TABLE rejudged DROP CONSTRAINT rejudged_before_check, DROP CONSTRAINT rejudged_after_check,
    ADD CONSTRAINT rejudged_before_check CHECK (before IN ('cleared', 'unproven', 'refused', 'companion')),
    ADD CONSTRAINT rejudged_after_check CHECK (after IN ('cleared', 'unproven', 'refused', 'companion'));

-- +goose Down
ALTER TABLE rejudged DROP CONSTRAINT rejudged_before_check, DROP CONSTRAINT rejudged_after_check,
    ADD CONSTRAINT rejudged_before_check CHECK (before IN ('cleared', 'unproven', 'refused')),
    ADD CONSTRAINT rejudged_after_check CHECK (after IN ('cleared', 'unproven', 'refused'));
ALTER TABLE outcome_days DROP CONSTRAINT outcome_days_verdict_check,
    ADD CONSTRAINT outcome_days_verdict_check CHECK (verdict IN ('cleared', 'unproven', 'refused'));
ALTER TABLE outcomes DROP CONSTRAINT outcomes_verdict_check,
    ADD CONSTRAINT outcomes_verdict_check CHECK (verdict IN ('cleared', 'unproven', 'refused'));
ALTER TABLE rejudged_batches DROP COLUMN companions;
ALTER TABLE batches DROP COLUMN companions, DROP COLUMN total_companions;
