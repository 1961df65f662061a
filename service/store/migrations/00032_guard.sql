-- +goose Up
-- Since when what went counts with what a run would take away.
ALTER TABLE runs ADD guard_since timestamptz;
CREATE INDEX changes_took ON changes (answered) WHERE state = 'done' AND (losses <> '{}' OR operation IN ('suspend', 'leave', 'delete'));

-- +goose Down
DROP INDEX changes_took;
ALTER TABLE runs DROP guard_since;
