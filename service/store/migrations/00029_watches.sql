-- +goose Up
-- How an agent watches directories for changes.
ALTER TABLE agents ADD watches jsonb;

-- +goose Down
ALTER TABLE agents DROP watches;
