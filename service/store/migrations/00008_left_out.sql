-- +goose Up
-- Directories that a run has left out, since they could not be read.
ALTER TABLE runs ADD left_out jsonb;

-- +goose Down
ALTER TABLE runs DROP left_out;
