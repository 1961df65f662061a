-- +goose Up
-- How a directory compares the values of the attributes that are read.
ALTER TABLE directory_states ADD schema jsonb;

-- +goose Down
ALTER TABLE directory_states DROP schema;
