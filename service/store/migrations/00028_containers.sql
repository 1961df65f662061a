-- +goose Up
-- Containers are few among all entries, and are looked for by name while somebody types.
CREATE INDEX entries_containers ON entries (directory, path) WHERE kind = 'container' AND gone IS NULL;

-- +goose Down
DROP INDEX entries_containers;
