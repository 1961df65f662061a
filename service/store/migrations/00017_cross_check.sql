-- +goose Up
-- When it was last compared whether a directory tells all its changes, and how many it
-- had not told when some were found.
ALTER TABLE directory_states ADD checked timestamptz, ADD missed integer NOT NULL DEFAULT 0, ADD missed_at timestamptz;

-- +goose Down
ALTER TABLE directory_states DROP checked, DROP missed, DROP missed_at;
