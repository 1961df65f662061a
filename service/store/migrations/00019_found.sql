-- +goose Up
-- The ids of what a directory was searched for.
ALTER TABLE orders ADD found uuid[] NOT NULL DEFAULT '{}';

-- +goose Down
ALTER TABLE orders DROP found;
