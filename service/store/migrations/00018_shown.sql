-- +goose Up
-- How many members of a group a cloud lists at most; 0 for all.
ALTER TABLE cloud_trust ADD members_shown integer NOT NULL DEFAULT 0;

-- +goose Down
ALTER TABLE cloud_trust DROP members_shown;
